import { DateTime } from "luxon";
import type { LoadDepot, LoadGroup } from "@/core/consequences/load";
import { WEEK_MINUTES } from "@/core/consequences/load";
import { nextRuns } from "@/core/schedule/schedule";
import { isMovable } from "@/core/schedule/shift";
import type { Tx } from "@/db/base/scope";
import { listDepots } from "@/db/depots/depots";
import { loadRows } from "@/db/sources/facts";
import type { StandingFilter } from "@/db/sources/sources";

/** The coming week as policies would have it, from Monday of this week in the provider's zone. */
export interface Week {
  readonly monday: Date;
  readonly groups: readonly LoadGroup[];
  readonly depots: readonly LoadDepot[];
}

/** A week has no more moments than these: a run every minute, and a clock change. */
const MOST_STARTS = WEEK_MINUTES + 120;

export async function weekOf(tx: Tx, filter: StandingFilter, zone: string, now: Date): Promise<Week> {
  const monday = DateTime.fromJSDate(now, { zone }).startOf("week");
  const from = new Date(monday.toMillis() - 1);
  const end = monday.plus({ weeks: 1 });
  const groups = (await loadRows(tx, filter)).map((row): LoadGroup => {
    const { when, where } = row.rules;
    const due = nextRuns({ ...when, spreadMinutes: 0 }, row.zone, from, MOST_STARTS, {
      anchor: monday.toJSDate(),
      until: end.toJSDate(),
    });
    // what the clock shows in the provider's zone, so that a week with a clock change still has seven days
    const starts = due
      .map(({ at }) => DateTime.fromJSDate(at, { zone }))
      .filter((at) => at < end)
      .map((at) => (at.weekday - 1) * 1440 + at.hour * 60 + at.minute)
      .filter((minute) => minute < WEEK_MINUTES);
    return {
      id: row.key,
      name: row.policyName,
      client: row.clientName,
      depotIds: [where.depotId, ...where.beside],
      starts,
      sources: row.sources,
      minutes: row.minutes ?? 0,
      spread: when.spreadMinutes,
      bytes: row.bytes ?? 0,
      movable:
        row.ownWhen &&
        when.windows.length === 0 &&
        when.schedules.length > 0 &&
        when.schedules.every(({ rule }) => isMovable(rule)),
    };
  });
  const used = new Set(groups.flatMap((group) => group.depotIds));
  const depots = (await listDepots(tx))
    .filter((depot) => used.has(depot.id))
    .map(({ id, name, atOnce }) => ({ id, name, atOnce }));
  return { monday: monday.toJSDate(), groups, depots };
}
