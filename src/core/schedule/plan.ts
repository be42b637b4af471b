import type { SourceId } from "../ids";
import { parseRule, ruleSentence } from "./rule";
import { type Window, windowWords } from "./window";

/** One of a policy's schedules. */
export interface Schedule {
  /** A recurrence rule of RFC 5545; its times are those of the client's clock. */
  readonly rule: string;
  /** A full pass reads everything anew; an incremental one only what changed. */
  readonly pass: "incremental" | "full";
}

/** When runs are due: the part of the clause When that the calendar decides. */
export interface Plan {
  readonly schedules: readonly Schedule[];
  /** Runs begin and go on inside them alone; none: at any time. */
  readonly windows: readonly Window[];
  /** Over how many minutes the sources of a policy are spread, each always at its own part. */
  readonly spreadMinutes: number;
}

/** A number from 0 to 1 that is always the same for a source: FNV-1a over its id. */
export function shareOf(sourceId: SourceId): number {
  let hash = 0x811c9dc5;
  for (let i = 0; i < sourceId.length; i += 1)
    hash = Math.imul(hash ^ sourceId.charCodeAt(i), 0x01000193) >>> 0;
  // the last bits of FNV-1a are good, the first less so
  return ((hash ^ (hash >>> 15)) & 0xffff) / 0x10000;
}

/** How much later than the schedule says a source begins, in milliseconds. */
export const lagOf = (plan: Pick<Plan, "spreadMinutes">, sourceId: SourceId | null): number =>
  sourceId === null ? 0 : Math.floor(shareOf(sourceId) * plan.spreadMinutes * 60) * 1000;

/** All schedules as a sentence: `Every working day at 21:30, and every 4 hours from 8:00 to 18:59`. */
export function planSentence(plan: Plan): string {
  if (plan.schedules.length === 0) return "On request only";
  const parts = plan.schedules.map(({ rule, pass }, i) => {
    const text = ruleSentence(parseRule(rule)) + (pass === "full" ? ", reading everything" : "");
    return i === 0 ? text : text.charAt(0).toLowerCase() + text.slice(1);
  });
  const windows = plan.windows.length ? `; only ${plan.windows.map(windowWords).join(" and ")}` : "";
  return `${parts.join(", and ")}${windows}`;
}
