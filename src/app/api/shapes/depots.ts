import { z } from "zod";
import { codeName, list } from "./common";

export const testStep = z.object({
  step: z.string(),
  ok: z.boolean(),
  ms: z.number(),
  message: z.string().nullable(),
});
export const depotKind = z.enum(["folder", "share", "s3"]);
export const bucketPlace = z.object({
  endpoint: z.string().describe("Origin of the server, such as `https://s3.region.example`."),
  region: z.string(),
  bucket: z.string(),
  prefix: z.string().describe("Prefix of every object name. Empty, or ends with a slash."),
  pathStyle: z.boolean().describe("The bucket is part of the path, not of the host name."),
  storageClass: z.string().nullable(),
  accessKeyId: z.string(),
});
export const grant = z.object({
  depotId: z.string(),
  clientId: z.string(),
  spaceId: z.string(),
  quotaBytes: z.number(),
  usedBytes: z.number(),
  lockDays: z.number().describe("Days for which stored objects cannot be deleted or changed by anyone."),
  purgeDue: z.boolean().describe("A purge may have something to delete."),
});
export const depotTest = z.object({
  warnings: list(z.string()),
  overwrites: z.boolean().describe("The server accepted a write over an existing object."),
  size: z.number().nullable().describe("Size of the file system in bytes. Null where there is none to ask."),
  free: z.number().nullable(),
  ok: z.boolean(),
  code: codeName.nullable(),
  steps: list(testStep),
});
export const verifiedTo = z.object({ to: z.string(), suspect: list(z.string()), bytes: z.number() });

export const depot = z.object({
  path: z.string(),
  id: z.string(),
  name: z.string(),
  region: z.string(),
  atOnce: z.number().nullable(),
  kind: depotKind,
  settings: z.union([z.record(z.string(), z.object({})), bucketPlace]),
  capacityBytes: z.number().nullable(),
  direct: z.string().nullable(),
});
