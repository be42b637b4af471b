import { z } from "zod";
import { list, moment, outcome, outcomes, sourceKind, state } from "./common";

export const statementDay = z.object({
  day: z.string(),
  outcomes,
});
export const statementWord = z.object({
  id: z.string(),
  about: z.string().describe("Key of the exception that the comment is about."),
  day: z.string(),
  side: z.enum(["client", "provider"]),
  by: z.string(),
  at: moment,
  text: z.string(),
});
export const statementException = z.object({
  key: z.string().describe("Identifies the exception across periods."),
  firstDay: z.string(),
  lastDay: z.string(),
  when: z.string().describe("The day, or the first day, the last day and the number of days."),
  sentence: z.string(),
  words: list(statementWord),
});
export const statement = z.object({
  clientName: z.string(),
  zone: z.string(),
  firstDay: z.string(),
  lastDay: z.string(),
  over: z.boolean().describe("Whether the period has ended. If so, states are those at its end."),
  headline: z.string(),
  alarms: list(z.object({ at: moment, standing: z.boolean(), sentences: list(z.string()) })).describe(
    "Alarms of the period, as sentences for the client. They come first.",
  ),
  sources: list(
    z.object({
      id: z.string(),
      name: z.string(),
      site: z.string(),
      state: state.describe("The state now."),
      targetHours: z.number().nullable(),
      newestPoint: moment.nullable(),
      points: z.number(),
      bytes: z.number(),
      added: z.number().describe("Bytes that recovery points of the period added."),
      since: moment.describe("Protected here since this day. There is no state for earlier days."),
      newestBefore: moment.nullable().describe("The newest recovery point before the period."),
      outcomeBefore: outcome.nullable(),
      nextRun: moment.nullable(),
      states: list(state.nullable()).describe(
        "State at the end of each day. Null before protection began and for future days.",
      ),
    }),
  ),
  days: list(statementDay),
  spaceUsed: z.number(),
  spaceAdded: z.number(),
  quota: z.number().nullable(),
  restores: list(z.object({ at: moment, source: z.string(), sentence: z.string() })),
  checks: z.string(),
  drilled: z.string().describe("What restore drills of the period proved, as a sentence."),
  drills: list(
    z.object({
      at: moment,
      source: z.string(),
      outcome,
      sentence: z.string(),
      evidence: z.string().nullable().describe("Checksum of everything restored. Null if nothing was."),
    }),
  ),
  exceptions: list(statementException),
  nextSteps: list(z.string()),
});
export const contractLine = z.object({
  clientId: z.string(),
  clientName: z.string(),
  kind: sourceKind,
  contracted: z.number().nullable().describe("Sources of this kind that were bought. Null: no contract."),
  most: z.number().describe("The most sources of this kind that were protected on one day."),
  daysOver: z.number().describe("Days with more protected sources than were bought."),
});
export const usageLine = z.object({
  clientId: z.string(),
  clientName: z.string(),
  kind: z.string(),
  depotId: z.string(),
  depotName: z.string(),
  days: z.number().describe("Days on which the client had something of this kind."),
  mostSources: z.number(),
  meanSources: z.number().describe("Mean over all days with a record."),
  meanProtected: z.number(),
  meanStored: z.number(),
  mostStored: z.number(),
});
export const usage = z.object({
  firstDay: z.string(),
  lastDay: z.string(),
  daysCounted: z
    .number()
    .describe(
      "Days of the period with a record. There is none for days before protection began, for future days, and for days without a running runner.",
    ),
  lines: list(usageLine),
  contracts: list(contractLine),
});
export const paper = z.enum(["a4", "letter"]);
export const sendingRow = z.object({
  clientId: z.string(),
  every: z.enum(["week", "month"]),
  onDay: z.number(),
  at: z.string(),
  recipients: list(z.string()),
  paper,
  nextAt: moment,
  setBy: z.string(),
});
export const statementLink = z.object({
  id: z.string(),
  clientId: z.string(),
  firstDay: z.string(),
  lastDay: z.string(),
  madeBy: z.string(),
  madeAt: moment,
  expiresAt: moment,
  opened: z.number(),
  openedAt: moment.nullable(),
});
export const trailRow = z.object({
  id: z.number(),
  at: moment,
  clientId: z.string().nullable(),
  clientName: z.string().nullable(),
  actor: z.string(),
  address: z.string(),
  action: z.string(),
  subject: z.string(),
  details: z.record(z.string(), z.unknown()),
});
