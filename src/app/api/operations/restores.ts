import { randomUUID } from "node:crypto";
import { z } from "zod";
import { CODES } from "@/core/codes";
import { ARCHIVE_FORMATS } from "@/core/units/download-formats";
import { notify } from "@/db/base/notify";
import { type Hold, placeHold } from "@/db/points/holds";
import { bringBack, type Point, pointById, pointsOf } from "@/db/points/points";
import { setProgress } from "@/db/runs/runs";
import { sourceById } from "@/db/sources/sources";
import { pointsOfItems, requestRestore } from "@/runs/request";
import { type Context, operation } from "@/server/api/operation";
import { cursorText } from "@/server/api/paging";
import { ARCHIVE_TYPES } from "@/server/archive/archive";
import { prepareArchive, preparedBasket, sendArchive } from "@/server/archive/archive-delivery";
import { imageOf, isImage } from "@/server/archive/image";
import { invalid, notFound, Problem } from "@/server/base/problem";
import {
  changesOf,
  listFolder,
  searchPoint,
  searchPoints,
  versionsOf,
  weigh,
} from "@/server/inside/inside-point";
import { compareInside, describeLook, imageInside, lookInside } from "@/server/inside/look-inside";
import { pathFromText } from "@/server/inside/path-text";
import * as shape from "../shapes";
import { name, pointParam, sourceParam, uuid, wantedQuery } from "./ids";

const items = z
  .array(
    z.object({
      pointId: z.string().regex(/^[0-9a-f]{32}$/, "Enter the id of a recovery point: 32 hexadecimal digits."),
      path: z.string().min(1).max(8192),
    }),
  )
  .min(1, "Put something into the basket first.")
  .max(2000, "A basket holds 2,000 items at most. Select folders instead.");

const folder = z
  .string()
  .trim()
  .startsWith("/", "A folder is an absolute path: it begins with a slash.")
  .max(4096)
  .refine((text) => !text.includes("\0") && !text.split("/").includes(".."), "Write the path without “..”.");

/** A folder inside a source that is reached over the network: names separated by slashes. */
const folderInside = z
  .string()
  .trim()
  .max(1000)
  .transform((text) => text.split("/").filter((name) => name.trim() !== ""))
  .refine((names) => names.length > 0, "Enter the name of a folder.")
  .refine(
    (names) => !names.some((name) => /\p{Cc}/u.test(name)),
    "Enter the name without control characters.",
  )
  .transform((names) => names.map((name) => name.trim()).join("/"));

const onePath = z.object({ path: z.string().min(1).max(8192) });

async function pointOf(context: Context, id: string): Promise<Point> {
  const point = await context.tx((tx) => pointById(tx, Buffer.from(id, "hex")));
  if (!point) throw notFound();
  return point;
}

/** A point and a path in it that is looked into, which stands in the trail. */
async function describedLook(context: Context, pointId: string, text: string) {
  const point = await pointOf(context, pointId);
  const path = pathFromText(text);
  await context.tx((tx) => describeLook(context, tx, point, path));
  return { point, path };
}

export const restores = [
  operation({
    id: "readRecoveryPoint",
    method: "GET",
    path: "/recovery-points/{pointId}",
    summary: "One recovery point.",
    caller: "look",
    params: pointParam,
    answer: z.object({
      point: shape.point,
    }),
    run: async (context, { params }) => {
      const point = await pointOf(context, params.pointId);
      return { point: { ...point, id: params.pointId, root: undefined } };
    },
  }),
  operation({
    id: "listEntries",
    method: "GET",
    path: "/recovery-points/{pointId}/entries",
    summary: "A folder inside a recovery point, in pages.",
    caller: "open",
    params: pointParam,
    query: z.object({
      path: z.string().default("/"),
      cursor: cursorText,
      limit: z.coerce.number().int().min(1).max(2000).default(500),
    }),
    answer: z.union([
      z.object({ entries: shape.list(shape.shownEntry), total: z.number(), next: z.string() }),
      z.object({ entries: shape.list(shape.shownEntry), total: z.number(), next: z.null() }),
    ]),
    run: async (context, { params, query }) =>
      listFolder(
        context.services,
        await pointOf(context, params.pointId),
        pathFromText(query.path),
        query.cursor,
        query.limit,
      ),
  }),
  operation({
    id: "searchEntries",
    method: "GET",
    path: "/recovery-points/{pointId}/search",
    summary: "Find files and folders by a part of their name, their size, or when they were changed.",
    caller: "open",
    params: pointParam,
    query: wantedQuery.extend({
      /** A folder that is searched alone. */
      below: z.string().min(1).max(8192).optional(),
    }),
    answer: z.object({ entries: shape.list(shape.shownEntry), looked: z.number(), more: z.boolean() }),
    run: async (context, { params, query: { below, ...wanted } }) =>
      searchPoint(
        context.services,
        await pointOf(context, params.pointId),
        wanted,
        below === undefined ? "/" : pathFromText(below),
      ),
  }),
  operation({
    id: "searchSource",
    method: "GET",
    path: "/sources/{sourceId}/search",
    summary: "Find files and folders over all points of a source: the last version of each.",
    caller: "open",
    params: sourceParam,
    query: wantedQuery,
    answer: z.object({ entries: shape.list(shape.lastEntry), looked: z.number(), more: z.boolean() }),
    run: async (context, { params, query }) => {
      const points = await context.tx(async (tx) => {
        if (!(await sourceById(tx, params.sourceId))) throw notFound();
        return pointsOf(tx, params.sourceId);
      });
      return searchPoints(context.services, points, query);
    },
  }),
  operation({
    id: "listChanges",
    method: "GET",
    path: "/recovery-points/{pointId}/changes",
    summary: "Differences from another point of the same source: added, removed and changed items.",
    caller: "open",
    params: pointParam,
    query: z.object({ since: pointParam.shape.pointId }),
    answer: z.object({
      changes: shape.list(
        z.object({
          name: z.string(),
          path: z.string(),
          type: shape.entryType,
          size: z.number().nullable(),
          modified: z.string(),
          mode: z.string(),
          target: z.string().nullable(),
          items: z.number().nullable(),
          kind: shape.changeKind,
          sizeBefore: z.number().nullable(),
        }),
      ),
      more: z.boolean(),
    }),
    run: async (context, { params, query }) => {
      const after = await pointOf(context, params.pointId);
      const before = await pointOf(context, query.since);
      if (before.sourceId !== after.sourceId) throw invalid("since", "This is a point of another source.");
      return changesOf(context.services, before, after);
    },
  }),
  operation({
    id: "lookInside",
    method: "GET",
    path: "/recovery-points/{pointId}/look",
    summary: "The content of a file: its text, or its type.",
    caller: "open",
    params: pointParam,
    query: onePath,
    answer: z.object({ look: shape.look }),
    run: async (context, { params, query }) => {
      const { point, path } = await describedLook(context, params.pointId, query.path);
      return { look: await lookInside(context.services, point, path) };
    },
  }),
  operation({
    id: "readImage",
    method: "GET",
    path: "/recovery-points/{pointId}/image",
    summary: "An image in a recovery point.",
    caller: "open",
    params: pointParam,
    query: onePath,
    media: ["image/*"],
    run: async (context, { params, query }) => {
      const { point, path } = await describedLook(context, params.pointId, query.path);
      return imageInside(context.services, point, path);
    },
  }),
  operation({
    id: "compareVersions",
    method: "GET",
    path: "/recovery-points/{pointId}/comparison",
    summary: "Changes in a text file since an earlier point of the same source, line by line.",
    caller: "open",
    params: pointParam,
    query: onePath.extend({ since: pointParam.shape.pointId }),
    answer: z.object({ comparison: shape.comparison }),
    run: async (context, { params, query }) => {
      const { point, path } = await describedLook(context, params.pointId, query.path);
      const before = await pointOf(context, query.since);
      if (before.sourceId !== point.sourceId) throw invalid("since", "This is a point of another source.");
      return { comparison: await compareInside(context.services, before, point, path) };
    },
  }),
  operation({
    id: "listVersions",
    method: "GET",
    path: "/sources/{sourceId}/versions",
    summary: "The versions of a path over all points of a source.",
    caller: "open",
    pages: { of: "versions", key: "pointId" },
    params: sourceParam,
    query: z.object({ path: z.string().min(1) }),
    answer: z.object({ versions: shape.list(shape.version) }),
    run: async (context, { params, query }) => {
      const points = await context.tx(async (tx) => {
        if (!(await sourceById(tx, params.sourceId))) throw notFound();
        return pointsOf(tx, params.sourceId);
      });
      return { versions: await versionsOf(context.services, points, pathFromText(query.path)) };
    },
  }),
  operation({
    id: "measureBasket",
    method: "POST",
    path: "/restores/weight",
    summary: "How many files and bytes a basket holds.",
    caller: "open",
    body: z.object({ items }),
    answer: z.object({ files: z.number(), bytes: z.number() }),
    run: async (context, { body }) =>
      weigh(context.services, await context.tx((tx) => pointsOfItems(tx, body.items))),
  }),
  operation({
    id: "restore",
    method: "POST",
    path: "/restores",
    summary:
      "Restore to a machine of the same client, or to a source that is reached over the network: a mailbox.",
    caller: "open",
    status: 202,
    body: z.object({
      items,
      destination: z.discriminatedUnion("kind", [
        z.object({ kind: z.literal("original") }),
        z.object({ kind: z.literal("folder"), folder, machineId: uuid.optional() }),
        z.object({
          kind: z.literal("source"),
          sourceId: uuid,
          /** A folder of a mailbox; of databases the name of the new one. */
          folder: folderInside.optional(),
          /** Of a database: only this table. */
          table: z.object({ schema: name("the schema", 63), name: name("the table", 63) }).optional(),
          /** Of a guest: start it from the depot at once, and copy its data meanwhile. */
          start: z.boolean().optional(),
        }),
      ]),
      clash: z.enum(["keep-both", "replace", "skip"]).default("keep-both"),
    }),
    answer: z.object({ run: shape.run }),
    run: async (context, { body }) => {
      const found = await context.tx((tx) => pointsOfItems(tx, body.items));
      const weight = await weigh(context.services, found);
      for (const [i, { point, path }] of found.entries())
        if (await context.services.spaces.isInsideDisk(point, path))
          throw invalid(
            `items.${i}.path`,
            "Files inside a disk can be downloaded, not restored to a machine. Select the whole guest to restore it.",
          );
      return context.tx(async (tx) => {
        const run = await requestRestore(tx, context.who, body);
        await setProgress(tx, run.id, {
          items: 0,
          bytes: 0,
          totalItems: weight.files,
          totalBytes: weight.bytes,
        });
        return { run };
      });
    },
  }),
  operation({
    id: "prepareDownload",
    method: "POST",
    path: "/restores/archives",
    summary:
      "Prepare a download of a basket as ZIP or TAR, of mailboxes as mbox, ICS or VCF, or of a disk as qcow2. The answer has its address.",
    caller: "open",
    status: 201,
    body: z.object({ items, format: z.enum(ARCHIVE_FORMATS) }),
    answer: z.object({ files: z.number(), bytes: z.number(), id: z.string(), url: z.string() }),
    run: async (context, { body }) => {
      const found = await context.tx((tx) => pointsOfItems(tx, body.items));
      const weight = await weigh(context.services, found);
      // what is no disk is refused before anything is prepared
      if (isImage(body.format))
        await imageOf(
          context.services,
          found.map((item) => ({ ...item, label: "" })),
        );
      const id = await context.tx((tx) => prepareArchive(context, tx, found[0]!.point.clientId, found, body));
      return { id, url: `/api/v1/restores/archives/${id}`, ...weight };
    },
  }),
  operation({
    id: "download",
    method: "GET",
    path: "/restores/archives/{archiveId}",
    summary: "Fetch a prepared download. `Range` continues an interrupted one.",
    caller: "open",
    params: z.object({ archiveId: uuid }),
    media: Object.values(ARCHIVE_TYPES),
    run: async (context, { params }) => {
      const { found, basket } = await context.tx(async (tx) => {
        const basket = await preparedBasket<z.infer<typeof items>[number]>(context, tx, params.archiveId);
        return { found: await pointsOfItems(tx, basket.items), basket };
      });
      return sendArchive(context, found, basket);
    },
  }),
  operation({
    id: "restoreDroppedPoint",
    method: "POST",
    path: "/recovery-points/{pointId}/keep",
    summary:
      "Restore a dropped point during its grace. A hold prevents its policy from dropping it again until the hold is lifted.",
    caller: "work",
    params: pointParam,
    answer: z.object({ kept: z.boolean(), holdId: z.string() }),
    run: (context, { params }) =>
      context.tx(async (tx) => {
        const point = await pointById(tx, Buffer.from(params.pointId, "hex"));
        if (!point) throw notFound();
        if (!point.droppedAt) throw new Problem("request.conflict", "This recovery point was not dropped.");
        if ((await bringBack(tx, point.id, context.who.at)) === 0)
          throw new Problem("request.conflict", "Its days of grace are over.");
        const hold: Hold = {
          id: randomUUID(),
          clientId: point.clientId,
          sourceId: point.sourceId,
          pointId: point.id,
          reason: point.dropReason
            ? `restored from grace; it was dropped as ${point.dropReason}`
            : "restored from grace",
          placedBy: context.who.actor,
          placedAt: context.who.at,
          evidence: null,
        };
        await placeHold(tx, hold);
        await context.record(
          tx,
          point.clientId,
          "restored a dropped recovery point",
          (await sourceById(tx, point.sourceId))!.name,
          { moment: point.moment },
        );
        await notify(tx, { kind: "source", clientId: point.clientId, id: point.sourceId });
        return { kept: true, holdId: hold.id };
      }),
  }),
  operation({
    id: "listCodes",
    method: "GET",
    path: "/codes",
    summary: "All codes, with cause and remedy.",
    caller: "person",
    answer: z.object({ codes: z.record(shape.codeName, shape.codeText) }),
    run: async () => ({ codes: CODES }),
  }),
];
