import { randomUUID } from "node:crypto";
import { Readable } from "node:stream";
import type { ClientId } from "@/core/ids";
import { notify } from "@/db/base/notify";
import type { Tx } from "@/db/base/scope";
import { clientById } from "@/db/clients/clients";
import { archiveById, deleteOldArchives, insertArchive, useArchive } from "@/db/points/archives";
import type { Point } from "@/db/points/points";
import { endRun, insertRun, setStartedAt } from "@/db/runs/runs";
import { sourceById } from "@/db/sources/sources";
import type { ByteString } from "@/store/tree/tree";
import type { Context } from "../api/operation";
import { invalid, notFound } from "../base/problem";
import { momentLabel } from "../inside/moment-label";
import { ARCHIVE_TYPES, type ArchiveFormat, archiveLength, type Part, streamArchive } from "./archive";
import { isImage, refuseForImage } from "./image";
import { isJoined } from "./joined";

/**
 * Downloads: prepared as a basket, fetched once or more by the person who prepared them. One that broke off goes on where
 * it was. An hour after it was prepared or begun last it is gone.
 */

const HOUR_MS = 3_600_000;

export interface Basket<Item> {
  readonly items: readonly Item[];
  readonly format: ArchiveFormat;
}

/** Refuses a format in which what was chosen cannot be. Throws problems of the field. */
async function refuseFormat(tx: Tx, items: readonly { readonly point: Point }[], format: ArchiveFormat) {
  if (isImage(format)) {
    const [first, ...others] = items;
    if (others.length > 0 || (await sourceById(tx, first!.point.sourceId))?.kind !== "guest")
      throw refuseForImage();
  }
  if (!isJoined(format)) return;
  for (const { point } of items)
    if ((await sourceById(tx, point.sourceId))?.kind !== "mail")
      throw invalid(
        "format",
        `This format contains items of mailboxes. Select only what is in mailboxes, or choose ZIP or TAR.`,
      );
}

/** Notes a basket for a download; answers its id. */
export async function prepareArchive<Item>(
  context: Context,
  tx: Tx,
  clientId: ClientId,
  found: readonly { readonly point: Point }[],
  basket: Basket<Item>,
): Promise<string> {
  await refuseFormat(tx, found, basket.format);
  const id = randomUUID();
  await deleteOldArchives(tx, new Date(context.who.at.getTime() - HOUR_MS));
  await insertArchive(tx, { id, clientId, personId: context.person!.id, request: basket }, context.who.at);
  return id;
}

/** A prepared download. */
export interface Prepared<Item> extends Basket<Item> {
  readonly id: string;
  /** How long it is, bytes, once somebody had to know. */
  readonly length: number | null;
}

/** A download that the caller prepared or began within the hour. */
export async function preparedBasket<Item>(context: Context, tx: Tx, id: string): Promise<Prepared<Item>> {
  const archive = await archiveById(tx, id, new Date(context.who.at.getTime() - HOUR_MS));
  if (!archive || archive.personId !== context.person!.id) throw notFound();
  return { ...(archive.request as Basket<Item>), id, length: archive.length };
}

/** The part of so many bytes that a request wants; `whole` without a wish, or with one that cannot be told. */
export function wantedPart(range: string | null, length: number): Part | "whole" | "beyond" {
  const [, from, to] = /^bytes=(\d*)-(\d*)$/.exec(range?.trim() ?? "") ?? [];
  if (from === undefined || to === undefined || (from === "" && to === "")) return "whole";
  if (from === "") return Number(to) > 0 ? { from: Math.max(0, length - Number(to)), to: length } : "beyond";
  const part = { from: Number(from), to: to === "" ? length : Math.min(length, Number(to) + 1) };
  if (part.from >= length) return "beyond";
  return part.to > part.from ? part : "whole";
}

/** A download is a restore too: it stands among the runs and in the statement. */
async function recordDownload(
  tx: Tx,
  context: Context,
  point: Point,
  format: ArchiveFormat,
  end: { failed: string | null; from: number; files: number; bytes: number },
): Promise<void> {
  const source = (await sourceById(tx, point.sourceId))!;
  const id = randomUUID();
  await insertRun(tx, {
    id,
    clientId: point.clientId,
    sourceId: source.id,
    machineId: source.machineId,
    kind: "restore",
    cause: "person",
    requestedBy: context.who.actor,
    dueAt: context.who.at,
    request: { download: format, ...(end.from ? { from: end.from } : {}) },
    personId: context.person!.clientId ? context.person!.id : null,
  });
  await setStartedAt(tx, id, context.who.at);
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
  await context.record(tx, point.clientId, "downloaded files", source.name, { format, ...end });
}

/** Streams an archive, or the part that is asked for, to whoever asked, and notes how it ended. */
export async function sendArchive(
  context: Context,
  items: readonly { readonly point: Point; readonly path: ByteString }[],
  { id, format, ...prepared }: Pick<Prepared<unknown>, "id" | "format" | "length">,
): Promise<Response> {
  const first = items[0]!.point;
  const client = (await context.tx((tx) => clientById(tx, first.clientId)))!;
  const labelled = items.map((item) => ({ ...item, label: momentLabel(item.point.moment, client.zone) }));
  const fileName = `${client.slug}-${momentLabel(first.moment, client.zone).replace(" ", "-")}.${format}`;
  const { headers } = context.request;
  const tag = `"${id}"`;
  const asked = headers.get("range");
  const range = (headers.get("if-range") ?? tag) === tag ? asked : null;
  // it costs something to know how long it is: only for whoever goes on
  const length = prepared.length ?? (range ? await archiveLength(context.services, labelled, format) : null);
  await context.services.db.withScope({ role: "system" }, (tx) => useArchive(tx, id, length, context.who.at));
  const wanted = length === null ? "whole" : wantedPart(range, length);
  const common = {
    "accept-ranges": "bytes",
    etag: tag,
    "cache-control": "no-store, no-transform",
  };
  if (wanted === "beyond")
    return new Response(null, { status: 416, headers: { ...common, "content-range": `bytes */${length}` } });
  const part = wanted === "whole" ? undefined : wanted;
  const { stream, ended } = streamArchive(context.services, labelled, format, part);
  const note = (failed: string | null, files: number, bytes: number) =>
    context
      .tx((tx) => recordDownload(tx, context, first, format, { failed, from: part?.from ?? 0, files, bytes }))
      .catch((error) => console.error(error));
  ended.then(
    ({ files, bytes }) => note(null, files, bytes),
    (error: Error) => note(error.message, 0, 0),
  );
  return new Response(Readable.toWeb(stream) as ReadableStream, {
    status: part ? 206 : 200,
    headers: {
      ...common,
      ...(part ? { "content-range": `bytes ${part.from}-${part.to - 1}/${length}` } : {}),
      "content-type": ARCHIVE_TYPES[format],
      "content-disposition": `attachment; filename="${fileName}"`,
    },
  });
}
