import { counted } from "../units/duration";
import { localDays, PERIODS, type Period, periodName, periodOfDay } from "./periods";

/** How many of each period are kept; 0 for none. */
export type Tiers = Readonly<Record<Period, number>>;

/** How long recovery points are kept. */
export type Retention =
  | { readonly kind: "last"; readonly count: number }
  | { readonly kind: "days"; readonly days: number }
  /** Whichever comes first: what is past either of them goes. */
  | { readonly kind: "first-of"; readonly count: number; readonly days: number }
  /** The last point of each of so many days, weeks, months, quarters and years. */
  | { readonly kind: "tiers"; readonly tiers: Tiers }
  | { readonly kind: "for-ever" };

/** Days in which a dropped point can still be brought back. */
export const GRACE_DAYS = 7;

export interface PointMoment {
  readonly id: string;
  readonly moment: Date;
}

export interface Decision {
  readonly id: string;
  readonly keep: boolean;
  /** In words that a client understands. */
  readonly reason: string;
}

const keep = (id: string, reason: string): Decision => ({ id, keep: true, reason });
const drop = (id: string, reason: string): Decision => ({ id, keep: false, reason });

/**
 * Which points of one source stay and which go, each with its reason. The newest point always stays: a source that has
 * not run for a year must not lose its last state to the clock. Days and longer periods are those of the zone's calendar;
 * a period without a point does not count, so a month's holiday costs no monthly.
 */
export function decideRetention(
  points: readonly PointMoment[],
  rule: Retention,
  now: Date,
  zone = "UTC",
): Decision[] {
  const newestFirst = [...points].sort((a, b) => b.moment.getTime() - a.moment.getTime());
  const [newest, ...rest] = newestFirst;
  if (!newest) return [];
  const always = keep(newest.id, "the newest recovery point always stays");
  switch (rule.kind) {
    case "for-ever":
      return [always, ...rest.map(({ id }) => keep(id, "kept for ever"))];
    case "last":
      return [always, ...rest.map(({ id }, i) => byCount(id, i + 1, rule.count))];
    case "days":
      return [always, ...rest.map((point) => byAge(point, rule.days, now))];
    case "first-of":
      return [
        always,
        ...rest.map((point, i) => {
          const counted = byCount(point.id, i + 1, rule.count);
          return counted.keep ? byAge(point, rule.days, now) : counted;
        }),
      ];
    case "tiers":
      return byTiers(newestFirst, rule.tiers, zone);
    default:
      throw new RangeError(`unknown retention ${JSON.stringify(rule satisfies never)}`);
  }
}

const byCount = (id: string, place: number, count: number): Decision =>
  place < count
    ? keep(id, `number ${place + 1} of the last ${count}`)
    : drop(id, `older than the last ${count}`);

function byAge({ id, moment }: PointMoment, days: number, now: Date): Decision {
  const age = (now.getTime() - moment.getTime()) / 86_400_000;
  return age <= days ? keep(id, `younger than ${days} days`) : drop(id, `older than ${days} days`);
}

function byTiers(newestFirst: readonly PointMoment[], tiers: Tiers, zone: string): Decision[] {
  const dayOf = localDays(zone);
  const open = PERIODS.map((period) => ({ period, left: tiers[period], last: Number.NaN }));
  return newestFirst.map(({ id, moment }, place) => {
    const day = dayOf(moment);
    const names: string[] = [];
    for (const tier of open) {
      if (tier.left === 0) continue;
      const number = periodOfDay(day, tier.period);
      if (number === tier.last) continue;
      tier.last = number;
      tier.left -= 1;
      names.push(periodName(day, tier.period));
    }
    if (place === 0) return keep(id, "the newest recovery point always stays");
    return names.length
      ? keep(id, `kept as ${names.join(" and ")}`)
      : drop(id, "no day, week, month, quarter or year needs it");
  });
}

const ONE_OF: Record<Period, string> = {
  daily: "day",
  weekly: "week",
  monthly: "month",
  quarterly: "quarter",
  yearly: "year",
};

/** The rule as a sentence: `The last 30 recovery points`. */
export function retentionSentence(rule: Retention): string {
  switch (rule.kind) {
    case "last":
      return rule.count === 1 ? "Only the newest recovery point" : `The last ${rule.count} recovery points`;
    case "days":
      return rule.days === 1 ? "One day" : `${rule.days} days`;
    case "first-of":
      return `The last ${rule.count} recovery points, none older than ${counted(rule.days, "day")}`;
    case "tiers": {
      const parts = PERIODS.filter((period) => rule.tiers[period] > 0).map((period) =>
        counted(rule.tiers[period], ONE_OF[period]),
      );
      const last = parts.pop();
      return `The last point of each of ${parts.length ? `${parts.join(", ")} and ${last}` : last}`;
    }
    case "for-ever":
      return "For ever";
  }
}
