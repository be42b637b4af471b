import { DateTime } from "luxon";
import { z } from "zod";
import { CodedError } from "@/core/codes";
import type { Tx } from "@/db/base/scope";
import { clientById } from "@/db/clients/clients";
import { type Point, pointById } from "@/db/points/points";
import { sourceById } from "@/db/sources/sources";
import {
  type ListedMessage,
  listMessages,
  mailFolders,
  messageBytes,
  parseApart,
  parseMessageSearch,
  positionOf,
  searchMessages,
} from "@/kinds/inside";
import { type Context, operation } from "@/server/api/operation";
import { cursorText, staleCursor } from "@/server/api/paging";
import { invalid, notFound, Problem } from "@/server/base/problem";
import { pathFromText, pathToText } from "@/server/inside/path-text";
import { showBytes } from "@/store/tree/tree";
import * as shape from "../shapes";
import { pointParam } from "./ids";

const onePath = z.object({ path: z.string().min(1).max(8192) });

/** A recovery point of a mailbox; of another kind there is nothing to show here. */
async function mailPoint(context: Context, id: string): Promise<Point> {
  return context.tx(async (tx) => {
    const point = await pointById(tx, Buffer.from(id, "hex"));
    const source = point && (await sourceById(tx, point.sourceId));
    if (!point || !source) throw notFound();
    if (source.kind !== "mail")
      throw new Problem("request.conflict", "This recovery point is not one of a mailbox.");
    return point;
  });
}

async function describe(context: Context, point: Point, action: string, details: object): Promise<void> {
  await context.tx(async (tx: Tx) => {
    const source = (await sourceById(tx, point.sourceId))!;
    await context.record(tx, point.clientId, action, source.name, { ...details, moment: point.moment });
  });
}

/** The bytes of one message, which stands in the trail. */
async function lookedAt(context: Context, pointId: string, text: string, most?: number) {
  const point = await mailPoint(context, pointId);
  const path = pathFromText(text);
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

/** Messages of 64 MiB at most are opened for an attachment. */
const ATTACHMENT_MOST = 64 * 1024 * 1024;

export const insideMail = [
  operation({
    id: "listMailFolders",
    method: "GET",
    path: "/recovery-points/{pointId}/mail-folders",
    summary: "The folders of a mailbox at a recovery point, with their numbers of messages.",
    caller: "open",
    pages: { of: "folders", key: "path" },
    params: pointParam,
    answer: z.object({ folders: shape.list(shape.mailFolder) }),
    run: async (context, { params }) => {
      const point = await mailPoint(context, params.pointId);
      const folders = await mailFolders(await context.services.spaces.ofPoint(point), point.root);
      return { folders: folders.map((folder) => ({ ...folder, path: pathToText(folder.path) })) };
    },
  }),
  operation({
    id: "listMessagesInside",
    method: "GET",
    path: "/recovery-points/{pointId}/messages",
    summary: "The messages of a folder at a recovery point, newest first, in pages.",
    caller: "open",
    params: pointParam,
    query: onePath.extend({ cursor: cursorText, limit: z.coerce.number().int().min(1).max(500).default(50) }),
    answer: z.object({
      messages: shape.list(shape.insideMessage),
      total: z.number(),
      next: z.string().nullable(),
    }),
    run: async (context, { params, query }) => {
      const point = await mailPoint(context, params.pointId);
      const after =
        query.cursor === undefined
          ? null
          : positionOf(Buffer.from(query.cursor, "base64url").toString("latin1"));
      if (query.cursor !== undefined && !after) throw staleCursor();
      const page = await listMessages(
        await context.services.spaces.ofPoint(point),
        point.root,
        pathFromText(query.path),
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
    id: "searchMessagesInside",
    method: "GET",
    path: "/recovery-points/{pointId}/messages/search",
    summary:
      "Find messages at a recovery point: `from:`, `to:`, `subject:`, `has:attachment`, `after:`, `before:`, `larger:`, `smaller:`, and words.",
    caller: "open",
    params: pointParam,
    query: z.object({ line: z.string().trim().min(1, "Enter what to search for.").max(500) }),
    answer: z.object({
      messages: shape.list(shape.insideMessage),
      looked: z.number(),
      of: z.number(),
      more: z.boolean(),
    }),
    run: async (context, { params, query }) => {
      const point = await mailPoint(context, params.pointId);
      const zone = (await context.tx((tx) => clientById(tx, point.clientId)))?.zone ?? "UTC";
      const search = parseMessageSearch(query.line, (day) => {
        const at = DateTime.fromISO(day, { zone });
        return /^\d{4}-\d{2}-\d{2}$/.test(day) && at.isValid ? at.toMillis() : null;
      });
      if ("problem" in search) throw invalid("line", search.problem);
      await describe(context, point, "searched messages", { search: query.line });
      const found = await searchMessages(await context.services.spaces.ofPoint(point), point.root, search);
      return { ...found, messages: found.messages.map(shownMessage) };
    },
  }),
  operation({
    id: "readMessageInside",
    method: "GET",
    path: "/recovery-points/{pointId}/message",
    summary:
      "A message at a recovery point: its head, its text, its HTML without scripts and remote content, and its attachments.",
    caller: "open",
    params: pointParam,
    query: onePath,
    answer: z.object({ message: shape.openedMessage }),
    run: async (context, { params, query }) => {
      const { bytes, size } = await lookedAt(context, params.pointId, query.path);
      const { to, cc, attachments, ...message } = await parsing(() =>
        parseApart({ kind: "open", bytes, size }),
      );
      return { message: { ...message, to: [...to], cc: [...cc], attachments: [...attachments] } };
    },
  }),
  operation({
    id: "readMessageSource",
    method: "GET",
    path: "/recovery-points/{pointId}/message/source",
    summary: "A message as it was received (RFC 5322).",
    caller: "open",
    params: pointParam,
    query: onePath,
    media: ["message/rfc822"],
    run: async (context, { params, query }) => {
      const { bytes } = await lookedAt(context, params.pointId, query.path, ATTACHMENT_MOST);
      return asDownload(bytes, "message/rfc822", "message.eml");
    },
  }),
  operation({
    id: "readAttachment",
    method: "GET",
    path: "/recovery-points/{pointId}/message/attachments/{number}",
    summary: "An attachment of a message, by its place in the list of the message, from 0.",
    caller: "open",
    params: pointParam.extend({ number: z.coerce.number().int().min(0).max(10_000) }),
    query: onePath,
    media: ["application/octet-stream"],
    run: async (context, { params, query }) => {
      const { bytes } = await lookedAt(context, params.pointId, query.path, ATTACHMENT_MOST);
      const found = await parsing(() => parseApart({ kind: "attachment", bytes, number: params.number }));
      if (!found) throw notFound();
      return asDownload(found.content, "application/octet-stream", found.name);
    },
  }),
];

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
