import { z } from "zod";
import { codeName, list, moment, outcome } from "./common";

export const runState = z.enum(["ended", "due", "claimed", "reading", "closing"]);
export const rates = z.object({ every: z.number(), values: list(z.number()) });
export const runProgress = z.object({
  items: z.number().optional().describe("Items processed so far."),
  bytes: z.number().optional(),
  totalItems: z.number().optional(),
  totalBytes: z.number().optional(),
  rate: z.number().optional().describe("Bytes per second in the last report."),
  stored: z.number().optional(),
  rates: rates.optional().describe("Rates since the run began."),
});
export const runKind = z.enum(["restore", "backup", "drill"]);
export const run = z.object({
  id: z.string(),
  clientId: z.string(),
  sourceId: z.string(),
  machineId: z
    .string()
    .nullable()
    .describe("The machine whose agent executes the run. Null: the runner does."),
  kind: runKind,
  cause: z.enum(["person", "schedule", "retry", "after"]),
  requestedBy: z.string().nullable(),
  dueAt: moment,
  state: runState,
  outcome: outcome.nullable(),
  code: codeName.nullable(),
  message: z.string().nullable(),
  attempt: z.number(),
  leaseUntil: moment.nullable(),
  startedAt: moment.nullable(),
  endedAt: moment.nullable(),
  stopRequestedAt: moment.nullable(),
  stopAt: moment
    .nullable()
    .describe("When the run must stop: the end of its window, or the longest time that the policy allows."),
  request: z.record(z.string(), z.unknown()),
  progress: runProgress,
  figures: z.record(z.string(), z.unknown()),
});
export const runRow = run.extend({
  sourceName: z.string(),
  sourceKind: z.string(),
  machineName: z
    .string()
    .nullable()
    .describe(
      "The machine, the connection that the runner reads through, or the mailbox that a restore goes to. Null for drills.",
    ),
  clientName: z.string(),
  clientSlug: z.string(),
});
export const runDepotState = z.enum([
  "failed",
  "kept",
  "writing",
  "behind",
  "away",
  "caught up",
  "broken off",
]);
export const runDepot = z.object({
  code: codeName.nullable(),
  depotId: z.string(),
  depotName: z.string(),
  state: runDepotState,
  message: z.string().nullable(),
  packs: z.number(),
  bytes: z.number(),
});
