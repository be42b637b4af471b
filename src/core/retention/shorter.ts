import type { Retention, Tiers } from "./decide";
import { PERIODS, type Period } from "./periods";

/** At most so many periods of the second kind begin within one of the first, where they nest; none where they do not. */
const WITHIN: Readonly<Record<Period, Partial<Record<Period, number>>>> = {
  daily: { daily: 1 },
  weekly: { weekly: 1, daily: 7 },
  // a week may lie in two months: the last point of a month need not be the last of a week
  monthly: { monthly: 1, daily: 31 },
  quarterly: { quarterly: 1, monthly: 3, daily: 92 },
  yearly: { yearly: 1, quarterly: 4, monthly: 12, daily: 366 },
};

/** Whether the rule keeps the newest point alone, whatever there is: every rule keeps that one. */
const keepsNewestAlone = (rule: Retention): boolean =>
  ((rule.kind === "last" || rule.kind === "first-of") && rule.count <= 1) ||
  (rule.kind === "tiers" && PERIODS.every((period) => rule.tiers[period] <= 1));

/** Whether each tier is covered by one that is as long, or by finer ones that are. */
const tiersCover = (before: Tiers, after: Tiers): boolean =>
  PERIODS.every(
    (period) =>
      before[period] <= 1 ||
      PERIODS.some((finer) => {
        const within = WITHIN[period][finer];
        return within !== undefined && after[finer] >= before[period] * within;
      }),
  );

/**
 * Whether there is any history of which one rule drops a point that another keeps, at any time. Decided from the bounds of
 * the rules, so that it holds for every source: hourly or yearly, with two points or four thousand.
 */
export function keepsLess(before: Retention, after: Retention): boolean {
  if (after.kind === "for-ever") return false;
  // what only the last copies kept would go
  if (before.deleted === "last-copy" && after.deleted !== "last-copy") return true;
  return !keepsAll(before, after);
}

/** Whether the second rule keeps whatever the first one keeps. */
function keepsAll(before: Retention, after: Retention): boolean {
  if (keepsNewestAlone(before)) return true;
  switch (before.kind) {
    case "for-ever":
      return false;
    case "last":
      return after.kind === "last" && after.count >= before.count;
    case "days":
      return after.kind === "days" && after.days >= before.days;
    case "first-of":
      return (
        (after.kind === "last" && after.count >= before.count) ||
        (after.kind === "days" && after.days >= before.days) ||
        (after.kind === "first-of" && after.count >= before.count && after.days >= before.days)
      );
    case "tiers":
      return after.kind === "tiers" && tiersCover(before.tiers, after.tiers);
  }
}
