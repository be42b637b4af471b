import { DateTime } from "luxon";
import { z } from "zod";
import { CodedError } from "@/core/codes";
import { within } from "@/core/rights/within";
import type { Tx } from "@/db/base/scope";
import { clientById } from "@/db/clients/clients";
import { type Point, pointById } from "@/db/points/points";
import { sourceById } from "@/db/sources/sources";
import {
  itemKindOf,
  type ListedMessage,
  listMessages,
  mailFolders,
  messageBytes,
  parseApart,
  parseMessageSearch,
  positionOf,
  searchMessages,
} from "@/kinds/inside";
import { type Caller, type Context, operation } from "@/server/api/operation";
import { cursorText, staleCursor } from "@/server/api/paging";
import { invalid, notFound, Problem } from "@/server/base/problem";
import { pathFromText, pathToText } from "@/server/inside/path-text";
import { foundWithin, giftThere } from "@/server/portal/given";
import { type ByteString, showBytes } from "@/store/tree/tree";
import * as shape from "../shapes";
import { pointParam, uuid } from "./ids";

const onePath = z.object({ path: z.string().min(1).max(8192) });

/** A recovery point of a mailbox, and what of it may be seen. */
interface Seen {
  readonly point: Point;
  /** Everything below this folder. */
  readonly below: ByteString;
  /** Attachments and sources may be saved. */
  readonly download: boolean;
}

/** How the operations of a door reach a recovery point: the console's by its id, the portal's by what was given. */
interface Door<P extends z.ZodObject> {
  readonly caller: Caller;
  /** Of the operations' ids. */
  readonly suffix: string;
  readonly base: string;
  readonly params: P;
  readonly seen: (context: Context, tx: Tx, params: z.infer<P>) => Promise<Seen>;
}

/** Of another kind of source there is nothing to show here. */
async function refuseOthers(tx: Tx, point: Point): Promise<void> {
  const source = await sourceById(tx, point.sourceId);
  if (!source) throw notFound();
  if (source.kind !== "mail")
    throw new Problem("request.conflict", "This recovery point is not one of a mailbox.");
}

async function describe(context: Context, point: Point, action: string, details: object): Promise<void> {
  await context.tx(async (tx: Tx) => {
    const source = (await sourceById(tx, point.sourceId))!;
    await context.record(tx, point.clientId, action, source.name, { ...details, moment: point.moment });
  });
}

/** The bytes of one message, which stands in the trail. */
async function lookedAt(context: Context, { point, below }: Seen, text: string, most?: number) {
  const path = pathFromText(text);
  if (!within(below, path)) throw notFound();
  const reader = await context.services.spaces.ofPoint(point);
  const found = await messageBytes(reader, point.root, path, most);
  if (!found) throw notFound();
  await describe(context, point, "viewed a message", { path: showBytes(path) });
  return found;
}

/** A message that cannot be parsed is a state of the message, not a fault of the console. */
async function parsing<T>(work: () => Promise<T>): Promise<T> {
  try {
    return await work();
  } catch (error) {
    if (error instanceof CodedError && error.code === "file.unreadable")
      throw new Problem("request.conflict", `${error.message}. Download it to open it with a mail program.`);
    throw error;
  }
}

const shownMessage = ({ path, to, cc, keywords, ...message }: ListedMessage) => ({
  ...message,
  to: [...to],
  cc: [...cc],
  keywords: [...keywords],
  path: pathToText(path),
});

/** What a calendar entry or contact does not have. */
const NO_HEAD = {
  from: "",
  to: [],
  cc: [],
  sent: null,
  messageId: null,
  attachment: false,
  html: null,
  attachments: [],
  cut: false,
};
/** How an item is saved: its media type, and the ending of its name. */
const SAVED_AS: Readonly<Record<ReturnType<typeof itemKindOf>, readonly [type: string, name: string]>> = {
  message: ["message/rfc822", "message.eml"],
  calendar: ["text/calendar", "entry.ics"],
  addressbook: ["text/vcard", "contact.vcf"],
};

/** Messages of 64 MiB at most are opened for an attachment. */
const ATTACHMENT_MOST = 64 * 1024 * 1024;

/** The operations by which a mailbox at a recovery point is looked into, behind one door. */
const insideMailOf = <P extends z.ZodObject>({ caller, suffix, base, params: ids, seen }: Door<P>) => {
  const reach = (context: Context, params: unknown): Promise<Seen> =>
    context.tx(async (tx) => {
      const found = await seen(context, tx, params as z.infer<P>);
      await refuseOthers(tx, found.point);
      return found;
    });
  const saved = async (context: Context, params: unknown, path: string) => {
    const found = await reach(context, params);
    if (!found.download)
      throw new Problem(
        "auth.not-allowed",
        "Your manager must approve restores from here. Restore the message instead of downloading it.",
      );
    return lookedAt(context, found, path, ATTACHMENT_MOST);
  };
  return [
    operation({
      id: `listMailFolders${suffix}`,
      method: "GET",
      path: `${base}/mail-folders`,
      summary: "The folders of a mailbox at a recovery point, with their numbers of messages.",
      caller,
      pages: { of: "folders", key: "path" },
      params: ids,
      answer: z.object({ folders: shape.list(shape.mailFolder) }),
      run: async (context, { params }) => {
        const { point, below } = await reach(context, params);
        const folders = await mailFolders(await context.services.spaces.ofPoint(point), point.root);
        return {
          folders: folders
            .filter((folder) => within(below, folder.path))
            .map((folder) => ({ ...folder, path: pathToText(folder.path) })),
        };
      },
    }),
    operation({
      id: `listMessagesInside${suffix}`,
      method: "GET",
      path: `${base}/messages`,
      summary: "The messages of a folder at a recovery point, newest first, in pages.",
      caller,
      params: ids,
      query: onePath.extend({
        cursor: cursorText,
        limit: z.coerce.number().int().min(1).max(500).default(50),
      }),
      answer: z.object({
        messages: shape.list(shape.insideMessage),
        total: z.number(),
        next: z.string().nullable(),
      }),
      run: async (context, { params, query }) => {
        const { point, below } = await reach(context, params);
        const path = pathFromText(query.path);
        if (!within(below, path)) throw notFound();
        const after =
          query.cursor === undefined
            ? null
            : positionOf(Buffer.from(query.cursor, "base64url").toString("latin1"));
        if (query.cursor !== undefined && !after) throw staleCursor();
        const page = await listMessages(
          await context.services.spaces.ofPoint(point),
          point.root,
          path,
          after,
          query.limit,
        );
        if (!page) throw notFound();
        return {
          messages: page.messages.map(shownMessage),
          total: page.total,
          next: page.next === null ? null : Buffer.from(page.next, "latin1").toString("base64url"),
        };
      },
    }),
    operation({
      id: `searchMessagesInside${suffix}`,
      method: "GET",
      path: `${base}/messages/search`,
      summary:
        "Find messages at a recovery point: `from:`, `to:`, `subject:`, `has:attachment`, `after:`, `before:`, `larger:`, `smaller:`, and words.",
      caller,
      params: ids,
      query: z.object({ line: z.string().trim().min(1, "Enter what to search for.").max(500) }),
      answer: z.object({
        messages: shape.list(shape.insideMessage),
        looked: z.number(),
        of: z.number(),
        more: z.boolean(),
      }),
      run: async (context, { params, query }) => {
        const { point, below } = await reach(context, params);
        const zone = (await context.tx((tx) => clientById(tx, point.clientId)))?.zone ?? "UTC";
        const search = parseMessageSearch(query.line, (day) => {
          const at = DateTime.fromISO(day, { zone });
          return /^\d{4}-\d{2}-\d{2}$/.test(day) && at.isValid ? at.toMillis() : null;
        });
        if ("problem" in search) throw invalid("line", search.problem);
        await describe(context, point, "searched messages", { search: query.line });
        const found = await searchMessages(
          await context.services.spaces.ofPoint(point),
          point.root,
          search,
          below,
        );
        return { ...found, messages: found.messages.map(shownMessage) };
      },
    }),
    operation({
      id: `readMessageInside${suffix}`,
      method: "GET",
      path: `${base}/message`,
      summary:
        "A message at a recovery point: its head, its text, its HTML without scripts and remote content, and its attachments.",
      caller,
      params: ids,
      query: onePath,
      answer: z.object({ message: shape.openedMessage }),
      run: async (context, { params, query }) => {
        const seen = await reach(context, params);
        const { bytes, size, entry } = await lookedAt(context, seen, query.path);
        const holds = itemKindOf(entry.name);
        if (holds !== "message") {
          const zone = (await context.tx((tx) => clientById(tx, seen.point.clientId)))?.zone ?? "UTC";
          const { title, fields, text } = await parsing(() =>
            parseApart({ kind: "entry", bytes, of: holds, zone }),
          );
          return { message: { ...NO_HEAD, holds, subject: title, fields: [...fields], text } };
        }
        const { to, cc, attachments, ...message } = await parsing(() =>
          parseApart({ kind: "open", bytes, size }),
        );
        return {
          message: { ...message, holds, fields: [], to: [...to], cc: [...cc], attachments: [...attachments] },
        };
      },
    }),
    operation({
      id: `readMessageSource${suffix}`,
      method: "GET",
      path: `${base}/message/source`,
      summary:
        "A message as it was received (RFC 5322), a calendar entry or contact as the server stored it.",
      caller,
      params: ids,
      query: onePath,
      media: ["message/rfc822", "text/calendar", "text/vcard"],
      run: async (context, { params, query }) => {
        const { bytes, entry } = await saved(context, params, query.path);
        return asDownload(bytes, ...SAVED_AS[itemKindOf(entry.name)]);
      },
    }),
    operation({
      id: `readAttachment${suffix}`,
      method: "GET",
      path: `${base}/message/attachments/{number}`,
      summary: "An attachment of a message, by its place in the list of the message, from 0.",
      caller,
      params: ids.extend({ number: z.coerce.number().int().min(0).max(10_000) }),
      query: onePath,
      media: ["application/octet-stream"],
      run: async (context, { params, query }) => {
        const { bytes } = await saved(context, params, query.path);
        const found = await parsing(() =>
          parseApart({ kind: "attachment", bytes, number: (params as unknown as { number: number }).number }),
        );
        if (!found) throw notFound();
        return asDownload(found.content, "application/octet-stream", found.name);
      },
    }),
  ];
};

/** Of the console: any recovery point that the caller may open. */
export const insideMail = insideMailOf({
  caller: "open",
  suffix: "",
  base: "/recovery-points/{pointId}",
  params: pointParam,
  seen: async (_context, tx, { pointId }) => {
    const point = await pointById(tx, Buffer.from(pointId, "hex"));
    if (!point) throw notFound();
    return { point, below: "/", download: true };
  },
});

/** Of the portal: what was given to the caller. */
export const insideGivenMail = insideMailOf({
  caller: "given",
  suffix: "Given",
  base: "/given/{giftId}/recovery-points/{pointId}",
  params: pointParam.extend({ giftId: uuid }),
  seen: async (context, tx, { giftId, pointId }) => {
    const gift = await giftThere(tx, context.person!.id, giftId, context.who.at);
    const { point, path } = await foundWithin(tx, gift, pointId, pathToText(gift.path));
    return { point, below: path, download: !gift.askFirst };
  },
});

/** Bytes that a browser saves and never shows: whatever they are, they run nowhere. */
const asDownload = (bytes: Buffer, type: string, name: string): Response =>
  new Response(new Uint8Array(bytes), {
    headers: {
      "content-type": type,
      "content-disposition": `attachment; filename*=UTF-8''${encodeURIComponent(name.replaceAll(/[\p{Cc}/\\]/gu, "_").slice(0, 200))}`,
      "cache-control": "private, no-store",
      "content-security-policy": "default-src 'none'; sandbox",
    },
  });
