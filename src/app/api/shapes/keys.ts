import { z } from "zod";
import { moment } from "./common";

export const consentKind = z.enum(["destroy-key", "delete-source", "shorten-retention", "shorten-lock"]);
export const consent = z.object({
  id: z.string(),
  clientId: z.string(),
  clientName: z.string(),
  kind: consentKind,
  subject: z.string().describe("What the consent is about, as text."),
  request: z.record(z.string(), z.unknown()),
  reason: z.string(),
  askedBy: z.string(),
  askedByName: z.string(),
  askedAt: moment,
  expiresAt: moment,
  decision: z.enum(["agreed", "declined", "withdrawn"]).nullable(),
  decidedByName: z.string().nullable(),
  decidedAt: moment.nullable(),
});
export const keyState = z.enum(["escrow", "passphrase", "none", "not confirmed", "destroyed"]);
export const certificate = z.object({
  id: z.string(),
  clientId: z.string(),
  madeAt: moment,
  body: z.record(z.string(), z.unknown()),
});
