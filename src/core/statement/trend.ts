import { DateTime } from "luxon";
import { keptShare, type NightCell } from "../protection/nights";

/** A week from Monday, or a calendar month; days are `YYYY-MM-DD`, both ends included. */
export interface Period {
  readonly firstDay: string;
  readonly lastDay: string;
}

/** The last `count` whole weeks or months before a day (`YYYY-MM-DD`), oldest first. */
export function lastPeriods(every: "week" | "month", day: string, count: number): Period[] {
  const begin = DateTime.fromISO(day, { zone: "utc" }).startOf(every);
  return Array.from({ length: count }, (_, i) => {
    const first = begin.minus({ [every]: count - i });
    return {
      firstDay: first.toISODate()!,
      lastDay: first
        .plus({ [every]: 1 })
        .minus({ days: 1 })
        .toISODate()!,
    };
  });
}

/** For each period the share of its runs that left a recovery point, 0 to 1; null for one without runs. */
export const trendOf = (
  nights: ReadonlyMap<string, NightCell> | undefined,
  periods: readonly Period[],
): (number | null)[] =>
  periods.map(({ firstDay, lastDay }) =>
    keptShare(
      [...(nights ?? [])].filter(([night]) => night >= firstDay && night <= lastDay).map(([, cell]) => cell),
    ),
  );
