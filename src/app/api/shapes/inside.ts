import { z } from "zod";
import { ITEM_KINDS } from "@/kinds/inside";
import { list, moment } from "./common";

export const entryType = z.enum(["file", "link", "folder"]);
export const shownEntry = z.object({
  name: z.string().describe("Name as text. Bytes that are not UTF-8 are shown as `\\xHH`."),
  path: z.string().describe("Path as the API takes it; see docs/api.md, paths of any bytes."),
  type: entryType,
  size: z.number().nullable(),
  modified: z.string(),
  mode: z.string(),
  target: z.string().nullable(),
  items: z.number().nullable().describe("Entries of a folder."),
});
export const lastEntry = z.object({
  pointId: z.string(),
  moment,
  name: z.string().describe("Name as text. Bytes that are not UTF-8 are shown as `\\xHH`."),
  path: z.string().describe("Path as the API takes it; see docs/api.md, paths of any bytes."),
  type: entryType,
  size: z.number().nullable(),
  modified: z.string(),
  mode: z.string(),
  target: z.string().nullable(),
  items: z.number().nullable().describe("Entries of a folder."),
});
export const look = z.union([
  z.object({
    kind: z.literal("text"),
    text: z.string(),
    encoding: z.string(),
    cut: z.boolean().describe("Only the beginning is shown."),
    size: z.number(),
  }),
  z.object({ kind: z.literal("image"), type: z.string(), size: z.number() }),
  z.object({ kind: z.literal("other"), size: z.number() }),
]);
export const comparedLine = z.object({
  kind: z.enum(["same", "added", "removed"]),
  before: z.number().nullable(),
  after: z.number().nullable(),
  text: z.string(),
});
export const comparison = z.union([
  z.object({ kind: z.literal("text"), places: list(list(comparedLine)) }),
  z.object({ kind: z.literal("other"), why: z.string() }),
]);
export const version = z.object({
  pointId: z.string().describe("The newest recovery point with this version."),
  moment,
  firstSeen: moment,
  size: z.number().nullable(),
  modified: z.string(),
  sizeChange: z
    .number()
    .nullable()
    .describe("Difference to the previous version in bytes. Null for the first version."),
});
export const changeKind = z.enum(["added", "removed", "changed"]);

export const viewing = z.object({
  pointId: z.string(),
  path: z.string(),
  pathName: z.string(),
  url: z.string(),
  id: z.string(),
  clientId: z.string(),
  sourceId: z.string(),
  sourceName: z.string(),
  moment: moment,
  zone: z.string(),
  madeBy: z.string(),
  madeAt: moment,
  expiresAt: moment,
});
export const mailFolder = z.object({
  path: z.string(),
  name: z.string(),
  role: z.string().nullable(),
  depth: z.number().describe("0 at the top."),
  messages: z.number().describe("Without those of folders below."),
});
const messageHead = z.object({
  subject: z.string(),
  from: z.string(),
  to: z.array(z.string()),
  cc: z.array(z.string()),
  sent: z.string().nullable().describe("As the sender says."),
  messageId: z.string().nullable(),
  attachment: z.boolean(),
});
const holds = z.enum(ITEM_KINDS).describe("What the item is.");
export const insideMessage = messageHead.extend({
  path: z.string(),
  holds,
  received: z
    .string()
    .describe("When a message was received, a calendar entry begins, or a contact was changed."),
  size: z.number(),
  keywords: z.array(z.string()).describe("RFC 8621, section 4.1.1."),
});
export const openedMessage = messageHead.extend({
  holds,
  fields: z
    .array(z.object({ label: z.string(), value: z.string() }))
    .describe("Of a calendar entry or contact."),
  text: z.string(),
  html: z.string().nullable().describe("To be shown in a sandboxed frame."),
  attachments: z.array(z.object({ name: z.string(), type: z.string(), size: z.number() })),
  cut: z.boolean().describe("Only the beginning is shown."),
});

export const insideDatabase = z.object({
  server: z.string().describe("The version of the server."),
  database: z.string(),
  encoding: z.string(),
  collate: z.string(),
  ctype: z.string(),
  bytes: z.number().describe("On the server, with indexes."),
  extensions: list(z.string()),
  tables: list(
    z.object({
      schema: z.string(),
      name: z.string(),
      rows: z.number(),
      estimated: z.boolean().describe("The number of rows is the server's estimate."),
      bytes: z.number(),
    }),
  ),
});
export const insideTable = z.object({
  definition: z.string().describe("SQL."),
  columns: z.array(z.string()),
  rows: z.array(z.array(z.string().nullable())).describe("The first ones, as text; long values are cut."),
  more: z.boolean(),
});

/** A guest at a recovery point; sizes in bytes. */
export const insideGuest = z.object({
  name: z.string(),
  memory: z.number(),
  processors: z.number(),
  /** The snapshot was taken with the guest's file systems at rest; and why not. */
  quiesced: z.boolean(),
  notQuiesced: z.string().nullable(),
  disks: z.array(
    z.object({
      name: z.string(),
      size: z.number(),
      /** What the recovery point holds of it; the rest is empty. */
      stored: z.number(),
      table: z.enum(["gpt", "mbr"]).nullable(),
      partitions: z.array(
        z.object({
          number: z.number(),
          offset: z.number(),
          size: z.number(),
          fileSystem: z.string().nullable(),
          label: z.string(),
          /** The folder that its files are in, below `/DISK/`; null where they are not read. */
          files: z.string().nullable(),
        }),
      ),
    }),
  ),
});
