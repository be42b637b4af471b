import { z } from "zod";
import { everFires } from "../schedule/occurrences";
import { planSentence } from "../schedule/plan";
import { isInterval, parseRule, RuleError, rulesAt } from "../schedule/rule";
import type { Weekday } from "../schedule/weekday";
import { hoursOfDay } from "./times";

/** The clause When: schedules and windows, and what becomes of a time that nothing could start. */

const rule = z
  .string()
  .trim()
  .max(500, "A rule has at most 500 characters.")
  .superRefine((text, context) => {
    try {
      const parsed = parseRule(text);
      if (!isInterval(parsed) && !everFires(parsed))
        throw new RuleError("This rule never fires: no day of a calendar suits all of its parts.");
    } catch (error) {
      if (!(error instanceof RuleError)) throw error;
      context.addIssue({ code: "custom", message: error.message });
    }
  });

const scheduleSchema = z.object({ rule, pass: z.enum(["incremental", "full"]).default("incremental") });

export const MISSED = ["at-once", "next", "note"] as const;

export const whenClause = z.strictObject({
  /** None: runs are made when somebody asks, or after another policy's. */
  schedules: z.array(scheduleSchema).max(20, "At most twenty schedules.").default([]),
  /** Runs begin and go on inside them alone. */
  windows: z.array(hoursOfDay).max(20, "At most twenty windows.").default([]),
  /** After so many hours a run stops, and the next one goes on. */
  stopAfterHours: z
    .number()
    .min(0.1, "At least six minutes, 0.1 hours.")
    .max(168, "At most 168 hours, a week.")
    .nullable()
    .default(null),
  /** A time at which the machine was not there: made up for when it is back, or not. */
  missed: z.enum(MISSED).default("at-once"),
  /** The policy whose runs must have ended; its sources' runs begin then. */
  after: z.uuid("Choose a policy.").nullable().default(null),
  /** Over how many minutes the sources are spread. */
  spreadMinutes: z
    .number()
    .int("Whole minutes.")
    .min(0, "No spread, or some minutes.")
    .max(720, "At most 720 minutes, half a day.")
    .default(0),
  /** The greatest age promised for the newest recovery point, in hours. */
  targetHours: z.number().int("Whole hours.").min(1, "At least one hour.").max(8760, "At most a year."),
});

export type When = z.infer<typeof whenClause>;

/** The clause as it was written down before schedules were rules; points and files of then still have it. */
export function upgradedWhen(value: unknown): unknown {
  if (!value || typeof value !== "object" || !("schedule" in value)) return value;
  const { schedule, ...rest } = value as {
    schedule: { kind: string; at?: string; days?: Weekday[]; hours?: number };
  };
  const text =
    schedule.kind === "every"
      ? `FREQ=HOURLY;INTERVAL=${schedule.hours}`
      : schedule.kind === "on-demand"
        ? null
        : rulesAt(schedule.at ?? "00:00", schedule.kind === "weekly" ? schedule.days : []);
  return { ...rest, schedules: text ? [{ rule: text, pass: "incremental" }] : [] };
}

const MISSED_WORDS: Record<When["missed"], string> = {
  "at-once": "",
  next: "; a missed time waits for the next",
  note: "; a missed time is only noted",
};

/** The clause as a sentence. */
export function whenSentence(when: When): string {
  const after = when.after
    ? when.schedules.length
      ? ", and after another policy's runs"
      : "After another policy's runs"
    : "";
  const plan = when.after && !when.schedules.length ? "" : planSentence(when);
  const stop =
    when.stopAfterHours === null ? "" : `; finished or not, stop after ${hoursWords(when.stopAfterHours)}`;
  const spread = when.spreadMinutes ? `; spread over ${when.spreadMinutes} minutes` : "";
  return `${plan}${after}${stop}${spread}${MISSED_WORDS[when.missed]}; no recovery point older than ${hoursWords(when.targetHours)}`;
}

const hoursWords = (hours: number): string =>
  hours === 1 ? "1 hour" : hours < 1 ? `${Math.round(hours * 60)} minutes` : `${hours} hours`;
