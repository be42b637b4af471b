import { counted } from "../units/duration";
import { localDays, PERIODS, type Period, periodName, periodOfDay } from "./periods";

/** How many of each period are kept; 0 for none. */
export type Tiers = Readonly<Record<Period, number>>;

/** How long recovery points are kept, and what becomes of files that were deleted at the source. */
export type Retention = Rule & {
  /**
   * `last-copy`: a point that holds the last copy of a file that was deleted afterwards stays for ever, whatever the rule
   * says; else deleted files expire with their points.
   */
  readonly deleted?: "with-points" | "last-copy" | undefined;
};
type Rule =
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
  /** Files that are in it and not in the point after it; null while nobody has looked. Of invented points: not given. */
  readonly lastCopies?: number | null;
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
  if (newestFirst.length === 0) return [];
  const decided = byRule(newestFirst, rule, now, zone);
  if (rule.deleted !== "last-copy") return decided;
  const copies = new Map(newestFirst.map((point) => [point.id, point.lastCopies]));
  return decided.map((decision) => {
    const held = copies.get(decision.id);
    if (decision.keep || held === undefined || held === 0) return decision;
    return held === null
      ? keep(decision.id, "not yet checked for files deleted after it")
      : keep(decision.id, `holds the last copy of ${counted(held, "deleted file")}`);
  });
}

function byRule(newestFirst: readonly PointMoment[], rule: Rule, now: Date, zone: string): Decision[] {
  const [newest, ...rest] = newestFirst as [PointMoment, ...PointMoment[]];
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
  const sentence = ruleSentence(rule);
  return rule.deleted === "last-copy" && rule.kind !== "for-ever"
    ? `${sentence}; the last copy of a deleted file for ever`
    : sentence;
}

function ruleSentence(rule: Rule): string {
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
