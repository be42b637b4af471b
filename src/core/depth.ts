/** The bands of Depth: down is back in time, on a scale that is even by eye. */
export const BANDS = [
  ["today", 1],
  ["week", 7],
  ["month", 31],
  ["quarter", 92],
  ["year", 366],
  ["years", Number.POSITIVE_INFINITY],
] as const;
export type Band = (typeof BANDS)[number][0];

const DAY_MS = 86_400_000;

/** The band that a moment lies in, seen from now. */
export function bandOf(moment: Date, now: Date): Band {
  const days = (now.getTime() - moment.getTime()) / DAY_MS;
  return BANDS.find(([, most]) => days < most)![0];
}

/** Points by band, newest first in each; bands without points are left out. */
export function intoBands<T extends { readonly moment: Date }>(
  points: readonly T[],
  now: Date,
): { readonly band: Band; readonly points: readonly T[] }[] {
  const newestFirst = [...points].sort((a, b) => b.moment.getTime() - a.moment.getTime());
  return BANDS.map(([band]) => ({
    band,
    points: newestFirst.filter((point) => bandOf(point.moment, now) === band),
  })).filter(({ points: here }) => here.length > 0);
}
