import type { Retention } from "../retention/decide";

/** Days that a period of each tier has. */
const PERIOD_DAYS = { daily: 1, weekly: 7, monthly: 30.44, quarterly: 91.31, yearly: 365.25 } as const;

/**
 * About how many points a retention keeps when runs were made for so many days: computed and not simulated, so that it
 * can be asked for thousands of sources at each keystroke. A test holds it against the decisions themselves.
 */
export function keptCount(retention: Retention, days: number, runsPerDay: number): number {
  const made = Math.max(0, days) * runsPerDay;
  switch (retention.kind) {
    case "for-ever":
      return made;
    case "last":
      return Math.min(retention.count, made);
    case "days":
      return Math.min(made, Math.max(1, retention.days * runsPerDay));
    case "first-of":
      return Math.min(made, retention.count, Math.max(1, retention.days * runsPerDay));
    case "tiers": {
      if (runsPerDay <= 0) return 0;
      let kept = 0;
      let covered = 0;
      for (const tier of ["daily", "weekly", "monthly", "quarterly", "yearly"] as const) {
        // a period without a point does not count: of rare runs each is one of its own
        const period = Math.max(PERIOD_DAYS[tier], 1 / runsPerDay);
        const reach = retention.tiers[tier] * period;
        if (reach <= covered) continue;
        // what finer tiers keep already stands for the coarser periods too
        const from = Math.min(covered, days);
        const to = Math.min(reach, days);
        kept += (to - from) / period;
        covered = reach;
      }
      return Math.min(made, Math.max(Math.min(1, made), kept));
    }
  }
}
