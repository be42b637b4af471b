import { randomUUID } from "node:crypto";
import { Readable } from "node:stream";
import { clientById } from "@/db/clients";
import { notify } from "@/db/notify";
import type { Point } from "@/db/points";
import { endRun, insertRun } from "@/db/runs";
import { change, one, type Tx } from "@/db/scope";
import { sourceById } from "@/db/sources";
import type { ByteString } from "@/store/tree";
import type { Context } from "./api/operation";
import { type ArchiveFormat, streamArchive } from "./archive";
import { momentLabel } from "./moment-label";
import { notFound } from "./problem";

/** Downloads: prepared as a basket, fetched once or more within the hour, by the person who prepared them. */

const HOUR_MS = 3_600_000;

export interface Basket<Item> {
  readonly items: readonly Item[];
  readonly format: ArchiveFormat;
}

/** Notes a basket for a download; answers its id. */
export async function prepareArchive<Item>(
  context: Context,
  tx: Tx,
  clientId: string,
  basket: Basket<Item>,
): Promise<string> {
  const id = randomUUID();
  await change(tx, "delete from archives where created_at < $1", [
    new Date(context.who.at.getTime() - HOUR_MS),
  ]);
  await change(
    tx,
    "insert into archives (id, client_id, person_id, request, created_at) values ($1, $2, $3, $4, $5)",
    [id, clientId, context.person!.id, JSON.stringify(basket), context.who.at],
  );
  return id;
}

/** The basket of a download that the caller prepared within the hour. */
export async function preparedBasket<Item>(context: Context, tx: Tx, id: string): Promise<Basket<Item>> {
  const archive = await one<{ request: Basket<Item>; personId: string }>(
    tx,
    `select request, person_id as "personId" from archives where id = $1 and created_at > $2`,
    [id, new Date(context.who.at.getTime() - HOUR_MS)],
  );
  if (!archive || archive.personId !== context.person!.id) throw notFound();
  return archive.request;
}

/** A download is a restore too: it stands among the runs and in the statement. */
async function recordDownload(
  tx: Tx,
  context: Context,
  point: Point,
  format: ArchiveFormat,
  end: { failed: string | null; files: number; bytes: number },
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
    request: { download: format },
    personId: context.person!.clientId ? context.person!.id : null,
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
  await context.record(tx, point.clientId, "downloaded files", source.name, { format, ...end });
}

/** Streams an archive to whoever asked, and notes how it ended. */
export async function sendArchive(
  context: Context,
  items: readonly { readonly point: Point; readonly path: ByteString }[],
  format: ArchiveFormat,
): Promise<Response> {
  const first = items[0]!.point;
  const client = (await context.tx((tx) => clientById(tx, first.clientId)))!;
  const labelled = items.map((item) => ({ ...item, label: momentLabel(item.point.moment, client.zone) }));
  const fileName = `${client.slug}-${momentLabel(first.moment, client.zone).replace(" ", "-")}.${format}`;
  const { stream, ended } = streamArchive(context.services, labelled, format);
  const note = (failed: string | null, files: number, bytes: number) =>
    context
      .tx((tx) => recordDownload(tx, context, first, format, { failed, files, bytes }))
      .catch((error) => console.error(error));
  ended.then(
    ({ files, bytes }) => note(null, files, bytes),
    (error: Error) => note(error.message, 0, 0),
  );
  return new Response(Readable.toWeb(stream) as ReadableStream, {
    headers: {
      "content-type": format === "zip" ? "application/zip" : "application/x-tar",
      "content-disposition": `attachment; filename="${fileName}"`,
      "cache-control": "no-store",
    },
  });
}
