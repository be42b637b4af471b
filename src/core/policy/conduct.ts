import { z } from "zod";
import { windowWords } from "../schedule/window";
import { hoursOfDay } from "./times";

/** The clause Conduct: how a run goes about its work on the machine and on the link. */

/** Bytes a second in some hours, in KiB/s. */
export const bandwidthHours = z.object({
  hours: hoursOfDay.nullable().default(null),
  kibPerSecond: z
    .number()
    .int("Whole KiB a second.")
    .min(8, "At least 8 KiB a second; less does not carry a run.")
    .max(10_000_000, "At most 10,000,000 KiB a second."),
});
export type BandwidthHours = z.infer<typeof bandwidthHours>;

export const FAILING_MEANS = ["fail", "caution", "nothing"] as const;
const command = z.object({
  line: z
    .string()
    .trim()
    .min(1, "Enter the command, or leave it out.")
    .max(2000, "A command has at most 2,000 characters.")
    .refine((line) => !line.includes("\0"), "A command has no NUL character."),
  /** After so many seconds it is ended. */
  seconds: z.number().int("Whole seconds.").min(1, "At least a second.").max(86_400, "At most a day."),
  /** What it means when it ends with anything but 0, or not in time. */
  failing: z.enum(FAILING_MEANS),
});
export type Command = z.infer<typeof command>;

export const SNAPSHOTS = ["none", "possible", "required"] as const;

export const conductClause = z.object({
  compression: z.enum(["none", "fast", "strong"]).default("fast"),
  /** The lowest of those that hold at an hour counts; none: no limit. */
  bandwidth: z.array(bandwidthHours).max(20, "At most twenty limits.").default([]),
  before: command.nullable().default(null),
  after: command.nullable().default(null),
  /** How often a failed run is tried again by itself, and after how long. */
  retries: z.number().int("A whole number.").min(0, "None, or some.").max(10, "At most ten.").default(2),
  retryMinutes: z
    .number()
    .int("Whole minutes.")
    .min(1, "At least a minute.")
    .max(1440, "At most a day.")
    .default(10),
  /** A snapshot of the volumes first: not at all, where they can make one, or the run fails without. */
  snapshot: z.enum(SNAPSHOTS).default("possible"),
  /** A drill of each source every so many days; null: none. */
  drillDays: z
    .number()
    .int("Whole days.")
    .min(1, "At least a day.")
    .max(366, "At most a year; leave it empty for none.")
    .nullable()
    .default(30),
});
export type Conduct = z.infer<typeof conductClause>;

export const PLAIN_CONDUCT: Conduct = {
  compression: "fast",
  bandwidth: [],
  before: null,
  after: null,
  retries: 2,
  retryMinutes: 10,
  snapshot: "possible",
  drillDays: 30,
};

const rateWords = (kib: number): string =>
  kib >= 1024 ? `${+(kib / 1024).toFixed(1)} MiB/s` : `${kib} KiB/s`;

export const bandwidthWords = (limits: readonly BandwidthHours[]): string =>
  limits
    .map(({ hours, kibPerSecond }) => `${rateWords(kibPerSecond)}${hours ? ` ${windowWords(hours)}` : ""}`)
    .join(", ");

/** The clause as a sentence. */
export function conductSentence(conduct: Conduct): string {
  const parts = [
    { none: "Not compressed", fast: "Compressed fast", strong: "Compressed strongly" }[conduct.compression],
    conduct.bandwidth.length ? `at most ${bandwidthWords(conduct.bandwidth)}` : "as fast as the link allows",
  ];
  if (conduct.snapshot !== "possible")
    parts.push(
      conduct.snapshot === "none" ? "files are read as they are" : "a snapshot first, or the run fails",
    );
  if (conduct.before) parts.push(`first “${conduct.before.line}”`);
  if (conduct.after) parts.push(`afterwards “${conduct.after.line}”`);
  parts.push(
    conduct.retries === 0
      ? "a failed run is not tried again"
      : `a failed run is tried again ${conduct.retries === 1 ? "once" : `${conduct.retries} times`}, ${conduct.retryMinutes} minutes apart`,
  );
  parts.push(
    conduct.drillDays === null
      ? "no drills"
      : `a drill every ${conduct.drillDays === 1 ? "day" : `${conduct.drillDays} days`}`,
  );
  return parts.join("; ");
}
