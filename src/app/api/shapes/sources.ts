import { z } from "zod";
import { clausesSchema } from "@/core/policy/clauses";
import { codeName, list, moment, outcome, outcomes, sourceKind, state } from "./common";
import { origin } from "./policies";

/** Where each clause comes from. */
export const origins = z.object({
  when: origin.optional(),
  what: origin.optional(),
  howLong: origin.optional(),
  where: origin.optional(),
  conduct: origin.optional(),
  notices: origin.optional(),
});
export const source = z.object({
  id: z.string(),
  clientId: z.string(),
  siteId: z.string(),
  machineId: z.string().nullable().describe("The machine whose agent reads the source."),
  connectionId: z.string().nullable().describe("The connection that the runner reads the source through."),
  remoteId: z.string().nullable(),
  vanishedAt: moment
    .nullable()
    .describe("When the service first reported that the source no longer exists. Recovery points remain."),
  kind: sourceKind,
  name: z.string(),
  policyId: z.string().nullable().describe("The group that the source belongs to."),
  tags: list(z.string()),
  rules: clausesSchema
    .nullable()
    .describe("The clauses in force. Null while a clause is set at no level: no runs are made."),
  origins,
  paused: z.boolean(),
  nextDueAt: moment.nullable(),
  lastDueAt: moment.nullable(),
});
export const setAside = z.object({
  key: z.string(),
  clientId: z.string().nullable(),
  title: z.string(),
  until: moment,
  note: z.string(),
  setBy: z.string(),
  setAt: moment,
});
export const causeKind = z.enum([
  "damage",
  "key-not-confirmed",
  "burst",
  "depot-full",
  "depot-away",
  "depot-failed",
  "machine-silent",
  "site-silent",
  "policy-change",
  "one-code",
  "connection-failed",
  "run-failed",
  "run-caution",
  "target-passed",
  "no-policy",
  "no-next-run",
  "messages-unsent",
  "drill-failed",
  "lock-refused",
  "contract-exceeded",
  "orphan",
]);
export const sourceFacts = z.object({
  id: z.string(),
  name: z.string(),
  clientId: z.string(),
  clientName: z.string(),
  state,
  silent: z
    .object({ machineId: z.string(), machineName: z.string(), seen: moment.nullable() })
    .nullable()
    .describe("The machine, if it has not reported for 26 hours."),
  connectionId: z
    .string()
    .nullable()
    .describe("The connection that the source is read through. Null for sources of a machine."),
  connectionName: z.string().nullable(),
  gone: z
    .boolean()
    .describe(
      "The machine or connection was removed, or the service no longer has the source. Recovery points remain.",
    ),
  hasPolicy: z.boolean(),
  unscheduled: z
    .enum(["rules-incomplete", "no-time-left"])
    .nullable()
    .optional()
    .describe("Why there is no next run although there should be one. Null otherwise."),
  siteId: z.string(),
  siteName: z.string(),
  policyId: z.string().nullable(),
  policyName: z.string().nullable(),
  policyChanged: moment.nullable().describe("When the policy was last changed."),
  depotId: z.string().nullable(),
  depotName: z.string().nullable(),
  depotAwayUntil: moment
    .nullable()
    .describe("End of the planned absence of the depot. Null while it is available."),
  newestPoint: moment.nullable(),
  targetHours: z.number().nullable(),
  lastOutcome: z.string().nullable().describe("Outcome of the last backup run that ended."),
  lastCode: codeName.nullable(),
  lastRunEnded: moment.nullable(),
  burst: z
    .object({
      changedShare: z.number(),
      denserShare: z.number(),
      folder: z.string(),
      machineName: z.string().nullable().optional(),
    })
    .nullable()
    .describe("Evidence of a mass change in the last run."),
  keyConfirmed: z.boolean(),
});
export const nightRow = z.object({
  clientId: z.string(),
  clientName: z.string(),
  clientSlug: z.string(),
  cells: list(outcomes.nullable()),
  share: z.number().nullable(),
});
export const burstEvidence = z.object({
  changedShare: z.number(),
  denserShare: z.number(),
  folder: z.string().describe("Folder with most of the changes."),
  before: z.string().nullable().describe("The last recovery point before the change (hex)."),
  beforeMoment: z.string().nullable(),
  runId: z.string(),
});
export const handover = z.object({
  id: z.string(),
  writtenAt: moment,
  writtenBy: z.string(),
  text: z.string(),
});

export const sourceRow = z.object({
  rules: clausesSchema.nullable().optional(),
  origins: origins.optional(),
  clientName: z.string(),
  clientSlug: z.string(),
  clientZone: z.string(),
  siteName: z.string(),
  siteSlug: z.string(),
  policyName: z.string().nullable(),
  policyChanged: moment.nullable(),
  targetHours: z.number().nullable(),
  depotId: z.string().nullable(),
  depotName: z.string().nullable(),
  depotAwayUntil: moment.nullable(),
  machineName: z.string().nullable(),
  machineSeen: moment.nullable(),
  connectionName: z.string().nullable(),
  gone: z.boolean(),
  keyConfirmed: z.boolean(),
  keyHolding: z.enum(["escrow", "passphrase"]).nullable(),
  keyDestroyed: moment.nullable(),
  newestPoint: moment.nullable(),
  points: z.number(),
  bytes: z.number(),
  files: z.number(),
  addedPerDay: z.number(),
  lastRunId: z.string().nullable(),
  lastRunEnded: moment.nullable(),
  lastOutcome: outcome.nullable(),
  lastCode: codeName.nullable(),
  state,
  burst: burstEvidence.nullable(),
  burstHoldId: z.string().nullable(),
  id: z.string(),
  name: z.string(),
  clientId: z.string(),
  siteId: z.string(),
  kind: sourceKind,
  connectionId: z.string().nullable(),
  machineId: z.string().nullable(),
  policyId: z.string().nullable(),
  paused: z.boolean(),
  tags: list(z.string()),
  remoteId: z.string().nullable(),
  vanishedAt: moment.nullable(),
  nextDueAt: moment.nullable(),
  lastDueAt: moment.nullable(),
});

/** A recovery point. */
export const point = z.object({
  id: z.string(),
  clientId: z.string(),
  sourceId: z.string(),
  runId: z.string().nullable(),
  depotId: z.string(),
  moment: moment,
  files: z.number(),
  folders: z.number(),
  links: z.number(),
  bytes: z.number(),
  addedBytes: z.number(),
  objectBytes: z.number(),
  droppedAt: moment.nullable(),
  dropReason: z.string().nullable(),
  purgeAfter: moment.nullable(),
  lockedUntil: moment.nullable(),
  damagedAt: moment.nullable(),
  lastCopies: z.number().nullable(),
});
