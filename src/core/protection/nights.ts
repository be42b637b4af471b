import { DateTime } from "luxon";
import type { Outcome } from "./state";

/** How many runs of a client ended so in one night. */
export interface NightCount {
  readonly clientId: string;
  /** The local date of its evening, as `nightOf` gives it. */
  readonly night: string;
  readonly outcome: Outcome;
  readonly runs: number;
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

const emptyCell = (): NightCell => ({ clean: 0, caution: 0, failed: 0, stopped: 0, missed: 0 });

/** Clients down, nights across. */
export function nightsTable(counts: readonly NightCount[]): Map<string, Map<string, NightCell>> {
  const table = new Map<string, Map<string, NightCell>>();
  for (const { clientId, night, outcome, runs } of counts) {
    const row = table.get(clientId) ?? new Map<string, NightCell>();
    table.set(clientId, row);
    const cell = row.get(night) ?? emptyCell();
    row.set(night, cell);
    cell[outcome] += runs;
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
