import { randomUUID } from "node:crypto";
import { Readable } from "node:stream";
import { z } from "zod";
import { CODES } from "@/core/codes";
import { clientById } from "@/db/clients";
import { notify } from "@/db/notify";
import { bringBack, type Point, pointById, pointsOf } from "@/db/points";
import { endRun, insertRun } from "@/db/runs";
import { change, one, type Tx } from "@/db/scope";
import { sourceById } from "@/db/sources";
import { momentLabel, pointsOfItems, requestRestore } from "@/runs/request";
import { type Context, operation } from "@/server/api/operation";
import { type ArchiveFormat, streamArchive } from "@/server/archive";
import { listFolder, searchPoint, versionsOf, weigh } from "@/server/inside-point";
import { pathFromText } from "@/server/path-text";
import { notFound, Problem } from "@/server/problem";
import { pointParam, sourceParam, uuid } from "./ids";

const items = z
  .array(
    z.object({
      pointId: z.string().regex(/^[0-9a-f]{32}$/, "This is no id of a recovery point."),
      path: z.string().min(1).max(8192),
    }),
  )
  .min(1, "Put something into the basket first.")
  .max(2000, "A basket holds 2,000 things at most; choose folders instead.");

const folder = z
  .string()
  .trim()
  .startsWith("/", "A folder is an absolute path: it begins with a slash.")
  .max(4096)
  .refine((text) => !text.includes("\0") && !text.split("/").includes(".."), "Write the path without “..”.");

async function pointOf(context: Context, id: string): Promise<Point> {
  const point = await context.tx((tx) => pointById(tx, Buffer.from(id, "hex")));
  if (!point) throw notFound();
  return point;
}

/** A download is a restore too: it stands among the runs and in the statement. */
async function recordDownload(
  tx: Tx,
  context: Context,
  point: Point,
  format: ArchiveFormat,
  end: { failed: string | null; files: number; bytes: number },
) {
  const source = (await sourceById(tx, point.sourceId))!;
  const id = randomUUID();
  if (source.machineId) {
    await insertRun(tx, {
      id,
      clientId: point.clientId,
      sourceId: source.id,
      machineId: source.machineId,
      kind: "restore",
      cause: "person",
      requestedBy: context.who.actor,
      dueAt: context.who.at,
      request: { download: format },
    });
    await change(tx, "update runs set started_at = $2 where id = $1", [id, context.who.at]);
    await endRun(
      tx,
      id,
      {
        outcome: end.failed ? "stopped" : "clean",
        code: null,
        message: end.failed,
        figures: { files: end.files, bytes: end.bytes },
      },
      context.services.now(),
    );
    await notify(tx, { kind: "run", clientId: point.clientId, id });
  }
  await context.record(tx, point.clientId, "downloaded files", source.name, { format, ...end });
}

export const restores = [
  operation({
    id: "readRecoveryPoint",
    method: "GET",
    path: "/recovery-points/{pointId}",
    summary: "One recovery point.",
    caller: "technician",
    params: pointParam,
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
    caller: "technician",
    params: pointParam,
    query: z.object({
      path: z.string().default("/"),
      after: z.string().max(400).optional(),
      limit: z.coerce.number().int().min(1).max(2000).default(500),
    }),
    run: async (context, { params, query }) =>
      listFolder(
        context.services,
        await pointOf(context, params.pointId),
        pathFromText(query.path),
        query.after,
        query.limit,
      ),
  }),
  operation({
    id: "searchEntries",
    method: "GET",
    path: "/recovery-points/{pointId}/search",
    summary: "Find files and folders by a part of their name.",
    caller: "technician",
    params: pointParam,
    query: z.object({ name: z.string().trim().min(1, "Type a part of the name.").max(255) }),
    run: async (context, { params, query }) =>
      searchPoint(context.services, await pointOf(context, params.pointId), query.name),
  }),
  operation({
    id: "listVersions",
    method: "GET",
    path: "/sources/{sourceId}/versions",
    summary: "The versions of a path over all points of a source.",
    caller: "technician",
    params: sourceParam,
    query: z.object({ path: z.string().min(1) }),
    run: async (context, { params, query }) => {
      const points = await context.tx(async (tx) => {
        if (!(await sourceById(tx, params.sourceId))) throw notFound();
        return pointsOf(tx, params.sourceId);
      });
      return { versions: await versionsOf(context.services, points, pathFromText(query.path)) };
    },
  }),
  operation({
    id: "weighBasket",
    method: "POST",
    path: "/restores/weight",
    summary: "How many files and bytes a basket holds.",
    caller: "technician",
    body: z.object({ items }),
    run: async (context, { body }) =>
      weigh(context.services, await context.tx((tx) => pointsOfItems(tx, body.items))),
  }),
  operation({
    id: "restore",
    method: "POST",
    path: "/restores",
    summary: "Restore to a machine of the same client.",
    caller: "technician",
    status: 202,
    body: z.object({
      items,
      destination: z.discriminatedUnion("kind", [
        z.object({ kind: z.literal("original") }),
        z.object({ kind: z.literal("folder"), folder, machineId: uuid.optional() }),
      ]),
      clash: z.enum(["keep-both", "replace", "skip"]).default("keep-both"),
    }),
    run: async (context, { body }) => {
      const found = await context.tx((tx) => pointsOfItems(tx, body.items));
      const weight = await weigh(context.services, found);
      return context.tx(async (tx) => {
        const run = await requestRestore(tx, context.who, body);
        await change(tx, "update runs set progress = $2 where id = $1", [
          run.id,
          JSON.stringify({ items: 0, bytes: 0, totalItems: weight.files, totalBytes: weight.bytes }),
        ]);
        return { run };
      });
    },
  }),
  operation({
    id: "prepareDownload",
    method: "POST",
    path: "/restores/archives",
    summary: "Prepare a download of a basket as ZIP or TAR; the answer says where to fetch it.",
    caller: "technician",
    status: 201,
    body: z.object({ items, format: z.enum(["zip", "tar"]) }),
    run: async (context, { body }) => {
      const found = await context.tx((tx) => pointsOfItems(tx, body.items));
      const weight = await weigh(context.services, found);
      const id = randomUUID();
      await context.tx(async (tx) => {
        await change(tx, "delete from archives where created_at < $1", [
          new Date(context.who.at.getTime() - 3_600_000),
        ]);
        await change(
          tx,
          "insert into archives (id, client_id, person_id, request, created_at) values ($1, $2, $3, $4, $5)",
          [id, found[0]!.point.clientId, context.person!.id, JSON.stringify(body), context.who.at],
        );
      });
      return { id, url: `/api/v1/restores/archives/${id}`, ...weight };
    },
  }),
  operation({
    id: "download",
    method: "GET",
    path: "/restores/archives/{archiveId}",
    summary: "Fetch a prepared download, streamed.",
    caller: "technician",
    params: z.object({ archiveId: uuid }),
    run: async (context, { params }) => {
      const { found, format, label } = await context.tx(async (tx) => {
        const archive = await one<{
          request: { items: { pointId: string; path: string }[]; format: ArchiveFormat };
          personId: string;
        }>(tx, `select request, person_id as "personId" from archives where id = $1 and created_at > $2`, [
          params.archiveId,
          new Date(context.who.at.getTime() - 3_600_000),
        ]);
        if (!archive || archive.personId !== context.person!.id) throw notFound();
        const points = await pointsOfItems(tx, archive.request.items);
        const client = (await clientById(tx, points[0]!.point.clientId))!;
        return {
          format: archive.request.format,
          found: points.map((item) => ({ ...item, label: momentLabel(item.point.moment, client.zone) })),
          label: `${client.slug}-${momentLabel(points[0]!.point.moment, client.zone).replace(" ", "-")}`,
        };
      });
      const { stream, ended } = streamArchive(context.services, found, format);
      const note = (failed: string | null, files: number, bytes: number) =>
        context
          .tx((tx) => recordDownload(tx, context, found[0]!.point, format, { failed, files, bytes }))
          .catch((error) => console.error(error));
      ended.then(
        ({ files, bytes }) => note(null, files, bytes),
        (error: Error) => note(error.message, 0, 0),
      );
      return new Response(Readable.toWeb(stream) as ReadableStream, {
        headers: {
          "content-type": format === "zip" ? "application/zip" : "application/x-tar",
          "content-disposition": `attachment; filename="${label}.${format}"`,
          "cache-control": "no-store",
        },
      });
    },
  }),
  operation({
    id: "keepPoint",
    method: "POST",
    path: "/recovery-points/{pointId}/keep",
    summary: "Bring a dropped point back while its grace lasts.",
    caller: "technician",
    params: pointParam,
    run: (context, { params }) =>
      context.tx(async (tx) => {
        const point = await pointById(tx, Buffer.from(params.pointId, "hex"));
        if (!point) throw notFound();
        if (!point.droppedAt) throw new Problem("request.conflict", "This recovery point was not dropped.");
        if ((await bringBack(tx, point.id, context.who.at)) === 0)
          throw new Problem("request.conflict", "Its days of grace are over.");
        await context.record(
          tx,
          point.clientId,
          "brought a recovery point back",
          (await sourceById(tx, point.sourceId))!.name,
          { moment: point.moment },
        );
        await notify(tx, { kind: "source", clientId: point.clientId, id: point.sourceId });
        return { kept: true };
      }),
  }),
  operation({
    id: "listCodes",
    method: "GET",
    path: "/codes",
    summary: "All codes, with cause and remedy.",
    caller: "person",
    run: async () => ({ codes: CODES }),
  }),
];
