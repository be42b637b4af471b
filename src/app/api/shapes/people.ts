import { z } from "zod";
import { list, moment } from "./common";

export const person = z.object({
  id: z.string(),
  clientId: z
    .string()
    .nullable()
    .describe("The client, for a client's people. Null for the provider's people."),
  email: z.string(),
  name: z.string(),
  role: z.enum(["person", "owner", "technician", "reader", "manager"]),
  clientIds: list(z.string())
    .nullable()
    .describe("The clients that a person of the provider is limited to. Null: all clients."),
  factor: z.boolean().describe("Whether a second factor is set up."),
  factorMissing: z
    .boolean()
    .describe(
      "The role requires a second factor and none is set up. Until then, only the account can be used.",
    ),
});
export const listedSession = z.object({
  id: z.string(),
  createdAt: moment,
  seenAt: moment,
  expiresAt: moment,
  address: z.string(),
  agent: z.string(),
  current: z.boolean(),
});
export const tokenReach = z.enum(["read", "change"]);
export const listedToken = z.object({
  id: z.string(),
  name: z.string(),
  reach: tokenReach,
  createdAt: moment,
  expiresAt: moment,
  usedAt: moment.nullable(),
});
export const invitation = z.object({
  personId: z.string(),
  name: z.string(),
  email: z.string(),
  madeBy: z.string(),
  factor: z.boolean().describe("Whether the person has a second factor. If so, its code is required too."),
});
export const listedPerson = person.extend({
  clientName: z.string().nullable(),
  invited: z.boolean().describe("Invited; the invitation is not accepted yet."),
  createdAt: moment,
  seenAt: moment.nullable(),
  gifts: z.number(),
});
export const madeInvitation = z.object({ url: z.string(), expiresAt: moment, mailed: z.boolean() });

export const ask = z.object({
  paths: list(z.string()),
  folder: z.string().nullable(),
  id: z.string(),
  clientId: z.string(),
  personId: z.string(),
  personName: z.string(),
  sourceId: z.string(),
  sourceName: z.string(),
  files: z.number(),
  bytes: z.number(),
  askedAt: moment,
  expiresAt: moment,
  decision: z.enum(["agreed", "declined"]).nullable(),
  decidedBy: z.string().nullable(),
  decidedAt: moment.nullable(),
  runId: z.string().nullable(),
});

export const gift = z.object({
  path: z.string(),
  pathName: z.string(),
  personName: z.string(),
  sourceName: z.string(),
  id: z.string(),
  clientId: z.string(),
  personId: z.string(),
  sourceId: z.string(),
  askFirst: z.boolean(),
  givenBy: z.string(),
  givenAt: moment,
  until: moment.nullable(),
});
