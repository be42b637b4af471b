import { z } from "zod";
import type { KeyState } from "../keysheet/wrapping";
import { type Retention, retentionSentence } from "../retention/decide";
import { isZone, longestPause, nextRuns, type Schedule, scheduleSentence } from "../schedule/schedule";
import { selectionSentence } from "../selection/selection";
import { whereClause } from "./where";

/** The clauses of a policy, checked at the edge. Messages are shown beside the field they belong to. */

const time = z.string().regex(/^([01]\d|2[0-3]):[0-5]\d$/, "Give a time as HH:MM, from 00:00 to 23:59.");

const folder = z
  .string()
  .startsWith("/", "A folder is an absolute path: it begins with a slash.")
  .max(4096, "A path has at most 4096 characters.")
  .refine((path) => !path.includes("\0"), "A path has no NUL character.")
  .refine((path) => !path.split("/").includes(".."), "Write the path without “..”.");

const pattern = z
  .string()
  .trim()
  .min(1, "An empty pattern matches nothing; leave it out.")
  .max(500, "A pattern has at most 500 characters.");

export const whatClause = z.object({
  folders: z.array(folder).min(1, "Name at least one folder.").max(200),
  include: z.array(pattern).max(200).default([]),
  exclude: z
    .array(pattern)
    .max(200)
    .default([])
    .refine(
      (patterns) => !patterns.some((text) => /^(\*|\*\*|\/|\/\*\*|\*\*\/\*)$/.test(text)),
      "This pattern leaves everything out; nothing would be kept.",
    ),
});

export const scheduleSchema: z.ZodType<Schedule, unknown> = z.discriminatedUnion("kind", [
  z.object({ kind: z.literal("daily"), at: time }),
  z.object({
    kind: z.literal("weekly"),
    at: time,
    days: z
      .array(z.union([1, 2, 3, 4, 5, 6, 7].map((day) => z.literal(day as 1 | 2 | 3 | 4 | 5 | 6 | 7))))
      .min(1, "Choose at least one day, or the schedule never fires.")
      .max(7),
  }),
  z.object({
    kind: z.literal("every"),
    hours: z.number().int("Whole hours.").min(1, "At least one hour.").max(168, "At most 168 hours, a week."),
  }),
  z.object({ kind: z.literal("on-demand") }),
]);

export const whenClause = z.object({
  schedule: scheduleSchema,
  /** The greatest age promised for the newest recovery point, in hours. */
  targetHours: z.number().int("Whole hours.").min(1, "At least one hour.").max(8760, "At most a year."),
});

const keepCount = z
  .number()
  .int("A whole number.")
  .min(1, "Keep at least one.")
  .max(4000, "At most 4,000 recovery points.");
const keepDays = z
  .number()
  .int("Whole days.")
  .min(1, "At least one day.")
  .max(36500, "At most a hundred years.");
const tier = z
  .number()
  .int("A whole number.")
  .min(0, "None, or some.")
  .max(4000, "At most 4,000.")
  .default(0);

export const howLongClause: z.ZodType<Retention, unknown> = z.discriminatedUnion("kind", [
  z.object({ kind: z.literal("last"), count: keepCount }),
  z.object({ kind: z.literal("days"), days: keepDays }),
  z.object({ kind: z.literal("first-of"), count: keepCount, days: keepDays }),
  z.object({
    kind: z.literal("tiers"),
    tiers: z
      .object({ daily: tier, weekly: tier, monthly: tier, quarterly: tier, yearly: tier })
      .refine(
        (tiers) => Object.values(tiers).some((count) => count > 0),
        "Keep at least one day, week, month, quarter or year.",
      )
      .refine(
        (tiers) => Object.values(tiers).reduce((sum, count) => sum + count, 0) <= 4000,
        "At most 4,000 recovery points together.",
      ),
  }),
  z.object({ kind: z.literal("for-ever") }),
]);

export const clausesSchema = z.object({
  what: whatClause,
  when: whenClause,
  howLong: howLongClause,
  where: whereClause,
});

export type Clauses = z.infer<typeof clausesSchema>;

export const zoneSchema = z
  .string()
  .refine(isZone, "This time zone does not exist; choose one such as Europe/Lisbon.");

/** One clause as a sentence that says what it does; Where needs the names of depots: `whereSentence`. */
export function clauseSentence(clause: "what" | "when" | "howLong", clauses: Partial<Clauses>): string {
  if (clause === "what" && clauses.what) return selectionSentence(clauses.what);
  if (clause === "when" && clauses.when)
    return `${scheduleSentence(clauses.when.schedule)}; no recovery point older than ${clauses.when.targetHours} hours`;
  if (clause === "howLong" && clauses.howLong) return retentionSentence(clauses.howLong);
  return "Given at no level";
}

/** How a client's content is sealed, as a sentence. */
export const encryptionSentence = (key: KeyState): string =>
  ({
    escrow: "AES-256-GCM with the client's key; its sheet is confirmed, the provider holds it in escrow",
    passphrase:
      "AES-256-GCM with the client's key; its sheet is confirmed, and it opens with the client's passphrase alone",
    destroyed: "The client's key was destroyed; nothing runs, and nothing that was kept can be read",
    "not confirmed": "AES-256-GCM with the client's key; its sheet is not confirmed yet, so nothing runs",
    none: "The client has no key yet, so nothing runs",
  })[key];

export interface Consequences {
  /** The next due moments, soonest first. */
  readonly next: readonly Date[];
  /** Where the two zones show different clocks at one of those moments. */
  readonly zonesDiffer: boolean;
  readonly advice: readonly string[];
}

const clock = (moment: Date, zone: string): string =>
  new Intl.DateTimeFormat("en-GB", {
    timeZone: zone,
    hour: "2-digit",
    minute: "2-digit",
    day: "2-digit",
  }).format(moment);

/** What will follow from a set of clauses for one client: the next runs, and what practice advises against. */
export function consequencesOf(
  clauses: Pick<Clauses, "when" | "howLong">,
  clientZone: string,
  providerZone: string,
  now: Date,
  count = 5,
): Consequences {
  const next = nextRuns(clauses.when.schedule, clientZone, now, count);
  const pause = longestPause(clauses.when.schedule);
  const advice: string[] = [];
  if (pause === null) advice.push("Nothing runs by itself: somebody has to ask for every recovery point.");
  else if (pause > clauses.when.targetHours) {
    advice.push(
      `The schedule cannot meet the target: up to ${pause} hours pass between two runs, and ${clauses.when.targetHours} were promised.`,
    );
  }
  if (clauses.howLong.kind === "last" && clauses.howLong.count === 1) {
    advice.push("With a single recovery point, a file damaged yesterday is lost today.");
  }
  if (clauses.howLong.kind === "days" && pause !== null && clauses.howLong.days * 24 < pause) {
    advice.push("Points are dropped before the next one is made; only the newest will ever be there.");
  }
  return {
    next,
    zonesDiffer: next.some((moment) => clock(moment, clientZone) !== clock(moment, providerZone)),
    advice,
  };
}
