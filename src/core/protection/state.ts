/** Protection states of a source and outcomes of a run, with the words of the job. */
export const STATES = ["exposed", "slipping", "never kept", "kept", "paused"] as const;
export type ProtectionState = (typeof STATES)[number];

export const OUTCOMES = ["clean", "caution", "failed", "stopped", "missed"] as const;
export type Outcome = (typeof OUTCOMES)[number];

export interface ProtectionFacts {
  /** Moment of the newest recovery point that is not dropped, or null. */
  readonly newestPoint: Date | null;
  /** Promised greatest age in hours, or null where no policy promises one. */
  readonly targetHours: number | null;
  /** Outcome of the last backup run that ended; a stopped one says nothing about protection. */
  readonly lastOutcome: Outcome | null;
  readonly paused: boolean;
  /** Whether an alarm of mass encryption was raised and not dismissed. */
  readonly alarm: boolean;
}

/**
 * The state of a source: exposed while an alarm stands, for its newest points may hold what cannot be read; else kept while its newest point is within target; slipping when past it by less than half of it, or
 * the last run ended with a caution; exposed when further past, or the last run failed.
 */
export function protectionState(facts: ProtectionFacts, now: Date): ProtectionState {
  if (facts.alarm) return "exposed";
  if (facts.paused) return "paused";
  if (!facts.newestPoint) return "never kept";
  if (facts.lastOutcome === "failed") return "exposed";
  if (facts.targetHours !== null) {
    const age = (now.getTime() - facts.newestPoint.getTime()) / 3_600_000;
    if (age > facts.targetHours * 1.5) return "exposed";
    if (age > facts.targetHours) return "slipping";
  }
  return facts.lastOutcome === "caution" ? "slipping" : "kept";
}
