import { z } from "zod";
import { bandwidthHours } from "@/core/policy/conduct";
import { codeName, list, moment } from "./common";

export const linkLimits = z.object({
  atOnce: z.number().nullable(),
  bandwidth: list(bandwidthHours),
});
export const client = z.object({
  id: z.string(),
  slug: z.string(),
  name: z.string(),
  zone: z.string(),
  region: z.string(),
  contactName: z.string(),
  contactEmail: z.string(),
  limits: linkLimits,
});
export const site = z.object({
  id: z.string(),
  clientId: z.string(),
  slug: z.string(),
  name: z.string(),
  limits: linkLimits,
});
export const machineSystem = z.object({
  hostname: z.string().optional(),
  system: z.string().optional(),
  kernel: z.string().optional(),
  cores: z.number().optional(),
  memory: z.number().optional(),
  agent: z.string().optional(),
  volumes: list(z.object({ path: z.string(), size: z.number(), free: z.number() })).optional(),
});
/** Settings of a connection by its kind, as they are stored. */
const connectionSettings = z.record(z.string(), z.unknown()).describe("By kind; never the secret.");
export const foundPlace = z.object({
  kind: z.enum(["client", "site", "source"]),
  label: z.string(),
  base: z.string(),
});

export const connection = z.object({
  id: z.string(),
  clientId: z.string(),
  siteId: z.string(),
  kind: z.string(),
  name: z.string(),
  address: z.string(),
  settings: connectionSettings,
  checkedAt: moment.nullable(),
  checkCode: codeName.nullable(),
  checkMessage: z.string().nullable(),
  goneAt: moment.nullable(),
});

export const mailServer = z.object({
  hasPassword: z.boolean(),
  host: z.string(),
  port: z.number(),
  security: z.enum(["none", "tls", "starttls"]),
  username: z.string().nullable(),
  sender: z.string(),
});

export const clientLook = z.object({
  colour: z.string().nullable().describe("As `#rrggbb`. Null: the console's own."),
  hasLogo: z.boolean(),
});
