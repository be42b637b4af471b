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

/** Fewer days than this say nothing about the next. */
const LEAST_DAYS = 3;

/**
 * Forecast from what was added on each of the past days (bytes, the oldest first, freed space counted off). The band is
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
