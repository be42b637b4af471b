/** How long recovery points are kept. */
export type Retention =
  | { readonly kind: "last"; readonly count: number }
  | { readonly kind: "days"; readonly days: number }
  | { readonly kind: "for-ever" };

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

/**
 * Which points of one source stay and which go, each with its reason. The newest point always stays: a source that has
 * not run for a year must not lose its last state to the clock.
 */
export function decideRetention(points: readonly PointMoment[], rule: Retention, now: Date): Decision[] {
  const newestFirst = [...points].sort((a, b) => b.moment.getTime() - a.moment.getTime());
  return newestFirst.map((point, place) => {
    if (place === 0) return { id: point.id, keep: true, reason: "the newest recovery point always stays" };
    switch (rule.kind) {
      case "for-ever":
        return { id: point.id, keep: true, reason: "kept for ever" };
      case "last":
        return place < rule.count
          ? { id: point.id, keep: true, reason: `number ${place + 1} of the last ${rule.count}` }
          : { id: point.id, keep: false, reason: `older than the last ${rule.count}` };
      case "days": {
        const age = (now.getTime() - point.moment.getTime()) / 86_400_000;
        return age <= rule.days
          ? { id: point.id, keep: true, reason: `younger than ${rule.days} days` }
          : { id: point.id, keep: false, reason: `older than ${rule.days} days` };
      }
      default:
        throw new RangeError(`unknown retention ${JSON.stringify(rule satisfies never)}`);
    }
  });
}

/** The rule as a sentence: `The last 30 recovery points`. */
export function retentionSentence(rule: Retention): string {
  if (rule.kind === "last")
    return rule.count === 1 ? "Only the newest recovery point" : `The last ${rule.count} recovery points`;
  if (rule.kind === "days") return rule.days === 1 ? "One day" : `${rule.days} days`;
  return "For ever";
}
