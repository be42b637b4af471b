import { z } from "zod";
import { groupRule } from "@/core/policy/cascade";
import { clausesSchema } from "@/core/policy/clauses";
import { clauseName, list, moment } from "./common";

export const loadGroup = z.object({
  id: z.string(),
  name: z.string(),
  client: z.string(),
  depotIds: list(z.string()).describe("Depots that the runs write to."),
  starts: list(z.number()),
  sources: z.number(),
  minutes: z.number().describe("Duration of a run, and the minutes over which the sources are spread."),
  spread: z.number(),
  bytes: z.number().describe("Bytes that all sources together add each time."),
  movable: z
    .boolean()
    .describe("The group has one time of day that can be changed, and no window that holds it."),
});
export const loadDepot = z.object({ id: z.string(), name: z.string(), atOnce: z.number().nullable() });
export const policy = z.object({
  clientId: z.string().nullable().describe("Null for the provider's own policies."),
  siteId: z.string().nullable(),
  sourceId: z.string().nullable(),
  rule: groupRule.nullable(),
  revision: z.number(),
  changedAt: moment,
  changedBy: z.string(),
  id: z.string(),
  level: z.enum(["client", "site", "source", "provider", "group"]),
  name: z.string(),
  clauses: clausesSchema.partial(),
  pins: list(clauseName),
});
export const setAsideAdvice = z.object({
  policyId: z.string(),
  advice: z.string(),
  reason: z.string(),
  setBy: z.string(),
  setAt: moment,
});
export const due = z.object({ at: moment, pass: z.enum(["incremental", "full"]) });
export const spaceAt = z.object({ days: z.number(), low: z.number(), mid: z.number(), high: z.number() });
export const inventedPoint = z.object({ moment, reason: z.string().nullable(), keep: z.boolean() });
export const origin = z.object({
  layerId: z.string(),
  level: z.enum(["client", "site", "source", "provider", "group"]),
  name: z.string(),
  pinned: z.boolean(),
});

export const clauseSentence = z.object({
  clause: clauseName,
  text: z.string(),
});

export const savedPolicy = z.object({
  policy,
  saved: z.boolean(),
  consentId: z.string().nullable(),
  sentences: list(clauseSentence),
  effects: z.number(),
});
