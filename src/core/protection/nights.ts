import { DateTime } from "luxon";
import type { ClientId } from "../ids";
import type { Outcome } from "./state";

/** How the runs of a client ended in one night. */
export interface NightCount {
  readonly clientId: ClientId;
  /** The local date of its evening, as `nightOf` gives it. */
  readonly night: string;
  readonly cell: NightCell;
}

/** One client's runs of one night, counted by outcome. */
export type NightCell = Record<Outcome, number>;

/** The night a moment belongs to, as the local date of its evening: a night lasts from noon to noon in the client's zone. */
export function nightOf(moment: Date, zone: string): string {
  return DateTime.fromJSDate(moment, { zone }).minus({ hours: 12 }).toISODate()!;
}

/** The last `count` nights up to the one that `now` belongs to, oldest first. */
export function lastNights(now: Date, zone: string, count: number): string[] {
  const newest = DateTime.fromISO(nightOf(now, zone), { zone: "utc" });
  return Array.from({ length: count }, (_, i) => newest.minus({ days: count - 1 - i }).toISODate()!);
}

/** Clients down, nights across. */
export function nightsTable(counts: readonly NightCount[]): Map<string, Map<string, NightCell>> {
  const table = new Map<string, Map<string, NightCell>>();
  for (const { clientId, night, cell } of counts) {
    let row = table.get(clientId);
    if (!row) {
      row = new Map();
      table.set(clientId, row);
    }
    const there = row.get(night);
    row.set(
      night,
      there
        ? {
            clean: there.clean + cell.clean,
            caution: there.caution + cell.caution,
            failed: there.failed + cell.failed,
            stopped: there.stopped + cell.stopped,
            missed: there.missed + cell.missed,
          }
        : cell,
    );
  }
  return table;
}

/** Share of runs that left a recovery point, 0 to 1, or null without runs. */
export function keptShare(cells: Iterable<NightCell>): number | null {
  let good = 0;
  let all = 0;
  for (const cell of cells) {
    good += cell.clean + cell.caution;
    all += cell.clean + cell.caution + cell.failed + cell.stopped + cell.missed;
  }
  return all === 0 ? null : good / all;
}
