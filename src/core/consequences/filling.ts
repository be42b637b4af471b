/** How a depot fills: the days that were, and what follows if it goes on like that. */
export interface Filling {
  /** Bytes a day, the middle of what the past days say. */
  readonly perDay: number;
  /** Half the width of the band, bytes a day: 95 % of means would lie within it if days were independent. */
  readonly spread: number;
  /** Days until it is full: as things go, at the soonest, at the latest; null where it does not fill. */
  readonly days: number | null;
  readonly soonest: number | null;
  readonly latest: number | null;
}

/** What was used at the end of a day. */
export interface DayUsed {
  /** `2026-11-24`. */
  readonly day: string;
  /** Bytes. */
  readonly used: number;
}

const DAY_MS = 86_400_000;

/** The same with every day between the first and the last, in order: where none was noted, as if it had gone on evenly. */
export function everyDay(noted: readonly DayUsed[]): DayUsed[] {
  const days: DayUsed[] = [];
  for (const one of noted) {
    const before = days.at(-1);
    const begin = Date.parse(before?.day ?? one.day);
    const between = (Date.parse(one.day) - begin) / DAY_MS;
    for (let i = 1; i < between; i += 1)
      days.push({
        day: new Date(begin + i * DAY_MS).toISOString().slice(0, 10),
        used: Math.round(before!.used + ((one.used - before!.used) * i) / between),
      });
    days.push(one);
  }
  return days;
}

/** By how much more was used at the end of each day than of the one before, bytes; less where space was freed. */
export const growthOf = (days: readonly DayUsed[]): number[] =>
  days.slice(1).map(({ used }, i) => used - days[i]!.used);

/** Fewer days than this say nothing about the next. */
const LEAST_DAYS = 3;

/**
 * Forecast from what came to be used on each of the past days (bytes, the oldest first, freed space counted off). The band is
 * the mean with twice its standard error; it says nothing about what nobody has seen yet. Null with too few days.
 */
export function forecastFilling(
  added: readonly number[],
  used: number,
  limit: number | null,
): Filling | null {
  if (added.length < LEAST_DAYS) return null;
  const perDay = added.reduce((sum, one) => sum + one, 0) / added.length;
  const variance = added.reduce((sum, one) => sum + (one - perDay) ** 2, 0) / (added.length - 1);
  const spread = 2 * Math.sqrt(variance / added.length);
  const until = (rate: number): number | null => {
    if (limit === null) return null;
    if (used >= limit) return 0;
    return rate > 0 ? (limit - used) / rate : null;
  };
  return {
    perDay,
    spread,
    days: until(perDay),
    soonest: until(perDay + spread),
    latest: until(perDay - spread),
  };
}
