import { CodedError } from "@/core/codes";
import { countSpace, depotById, type Grant, listGrants, setPurgeDue } from "@/db/depots/depots";
import { deletePack, moveChunks, packsWithChunks } from "@/db/points/chunks";
import { markPurged, pointsInSpace, purgeablePoints } from "@/db/points/points";
import {
  abandonedObjects,
  announceObject,
  markUnknown,
  objectsBeingWritten,
  type PendingObject,
  settleObject,
  takeAbandoned,
  unmarkObjects,
} from "@/db/runs/pending-objects";
import { oldestUse, removeDeadWriters } from "@/db/runs/writers";
import { RUNNER, record } from "@/server/access/who";
import type { Services } from "@/server/base/services";
import { lastPart, packName, packsOf, pointName, pointsOf as pointsFolder } from "@/store/packs/layout";
import type { PackHolds } from "@/store/packs/pack";
import type { Place, Unfinished } from "@/store/places/place";
import type { ChunkReader } from "@/store/read/reader";
import { Needed } from "@/store/tree/needed";
import { idKey } from "@/store/tree/tree";
import { PACK_BYTES, StoreWriter } from "@/store/write/writer";
import { asWriter } from "./writers";

/**
 * From so many small packs on they are written together: runs that store little leave one each, and a point that lies in
 * hundreds of them is slow to restore. Small is what is far from a full pack.
 */
const SMALL_TOGETHER = 8;
const SMALL_BYTES = PACK_BYTES / 4;

/** A pack of which no more than this share is needed is written anew without the rest. */
const REWRITE_BELOW = 0.4;

/**
 * Purges what is past its grace, in every space. A space that cannot be purged, because a tree in it does not open or its
 * depot does not answer, is told to `report` and hinders no other. Returns the bytes that became free.
 */
export async function purgeAll(
  services: Services,
  report: (error: CodedError) => void = () => {},
): Promise<number> {
  const grants = await services.db.withScope({ role: "system" }, (tx) => listGrants(tx));
  let freed = 0;
  for (const grant of grants) {
    try {
      freed += await purgeSpace(services, grant);
    } catch (error) {
      if (!(error instanceof CodedError)) throw error;
      report(error);
    }
  }
  return freed;
}

/**
 * Purges one space, with runs, carries and restores going on beside it. First the points vanish from the list, then packs
 * that nothing needs, so that whatever kills it in between leaves only objects that the next purge sweeps. A pack goes only
 * when no listed point needs it and nobody at work can have counted on it: it was made, and last given as known, before
 * the oldest of them began. Returns the bytes that became free; 0 where another purge of the space is going on.
 */
export const purgeSpace = async (services: Services, grant: Grant): Promise<number> =>
  (await asWriter(services, grant, "purge", (id) => purgeAsWriter(services, grant, id))) ?? 0;

async function purgeAsWriter(services: Services, grant: Grant, writerId: string): Promise<number> {
  const now = services.now();
  const system = { role: "system" } as const;
  const depot = await services.db.withScope(system, (tx) => depotById(tx, grant.depotId));
  if (!depot) return 0;
  const place = services.places.of(depot);
  const begun = await services.db.withScope(system, async (tx) => {
    const leaving = await purgeablePoints(tx, grant.depotId, grant.clientId, now);
    if (leaving.length === 0 && !grant.purgeDue && !(await abandonedObjects(tx, grant.spaceId))) return null;
    await setPurgeDue(tx, grant.spaceId, true);
    await markPurged(
      tx,
      grant.depotId,
      leaving.map((point) => point.id),
      now,
    );
    const objects = leaving.reduce((sum, point) => sum + point.objectBytes, 0);
    await countSpace(tx, grant.spaceId, -objects);
    await removeDeadWriters(tx, grant.spaceId);
    // before the points that stay: a run or carry that ends in between has its points among them
    const cutoff = await oldestUse(tx, grant.clientId, grant.spaceId, now);
    const stay = await pointsInSpace(tx, grant.depotId, grant.clientId);
    return { points: leaving.length, objects, cutoff, stay };
  });
  if (!begun) return 0;
  const reader = await services.spaces.reader(grant.clientId, grant.depotId);
  const needed = new Needed();
  const newestFirst = [...begun.stay].sort((a, b) => b.moment.getTime() - a.moment.getTime());
  for (const point of newestFirst) await needed.add(reader, point.root);
  let freed = 0;
  let spared = false;
  await services.db.withScope(system, async (tx) => {
    for (const pack of await packsWithChunks(tx, grant.spaceId)) {
      if (pack.chunkIds?.some((id) => needed.has(id))) continue;
      if ((await deletePack(tx, grant.spaceId, pack.id, begun.cutoff)) > 0) freed += pack.size;
      else spared = true;
    }
    await countSpace(tx, grant.spaceId, -freed);
  });
  freed += begun.objects;
  freed += await rewriteThinPacks(services, grant, place, reader, needed, begun.cutoff, writerId);
  if (begun.points || freed)
    await services.db.withScope(system, (tx) =>
      record(tx, { ...RUNNER, at: now }, grant.clientId, "purged recovery points", depot.name, {
        points: begun.points,
        freed,
      }),
    );
  await sweep(services, grant, place, writerId);
  // whatever broke this off before here, or made it spare something, is a reason to come again
  if (!spared) await services.db.withScope(system, (tx) => setPurgeDue(tx, grant.spaceId, false));
  return freed;
}

/**
 * Rewrites packs of which little is needed, and small ones where there are many: the needed chunks go into a new pack, then index and depot let go of the old
 * one. Killed in between, either pack is without its row, and swept. `cutoff` as for the packs that nothing needs.
 */
async function rewriteThinPacks(
  services: Services,
  grant: Grant,
  place: Place,
  reader: ChunkReader,
  needed: Needed,
  cutoff: Date,
  writerId: string,
): Promise<number> {
  const now = services.now();
  const system = { role: "system" } as const;
  const there = await services.db.withScope(system, async (tx) =>
    (await packsWithChunks(tx, grant.spaceId)).filter(
      (pack) => pack.usedAt < cutoff && pack.chunkIds?.length,
    ),
  );
  const isThin = ({ chunkIds }: (typeof there)[number]) =>
    chunkIds!.filter((id) => needed.has(id)).length / chunkIds!.length <= REWRITE_BELOW;
  // of one that is locked the old object would stay beside the new one
  const isSmall = ({ size, lockedUntil }: (typeof there)[number]) =>
    size < SMALL_BYTES && (lockedUntil === null || lockedUntil <= now);
  const thin = there.filter(isThin);
  const small = there.filter((pack) => isSmall(pack) && !thin.includes(pack));
  if (small.length >= SMALL_TOGETHER) thin.push(...small);
  if (thin.length === 0) return 0;
  const keys = await services.spaces.keys(grant.clientId);
  let stored = 0;
  const made: { id: Buffer; size: number; holds: PackHolds }[] = [];
  const packOf = (id: Buffer): PendingObject => ({ spaceId: grant.spaceId, object: "pack", id });
  const writer = new StoreWriter(keys, {
    known: async (ids) => ids.map(() => false),
    putPack: async (packId, parts, { ids, contentBytes }) => {
      const id = Buffer.from(packId);
      await services.db.withScope(system, (tx) =>
        announceObject(tx, packOf(id), grant.clientId, { writerId }, now),
      );
      const size = await place.put(packName(grant.spaceId, id.toString("hex")), parts);
      stored += size;
      made.push({ id, size, holds: { ids: ids.map((one) => Buffer.from(one)), contentBytes } });
    },
  });
  // in the order in which the newest point reads them: a restore finds neighbours in one pack
  const moving = new Set(thin.flatMap((pack) => pack.chunkIds ?? []).map(idKey));
  for (const [kind, keys] of [
    ["tree", needed.nodes],
    ["data", needed.chunks],
  ] as const)
    for (const key of keys) {
      if (!moving.has(key)) continue;
      const id = Buffer.from(key, "latin1");
      writer.add(kind, kind === "tree" ? await reader.rawNode(id) : await reader.chunk(id));
      await writer.room();
    }
  await writer.close();
  let gone = 0;
  await services.db.withScope(system, async (tx) => {
    for (const pack of made) {
      await settleObject(tx, packOf(pack.id), { writerId });
      await moveChunks(tx, grant, pack, now);
    }
    for (const pack of thin)
      if ((await deletePack(tx, grant.spaceId, pack.id, cutoff)) > 0) gone += pack.size;
    await countSpace(tx, grant.spaceId, stored - gone);
  });
  services.spaces.forget(grant.clientId, grant.depotId);
  return gone - stored;
}

/**
 * Removes objects that the index does not know and nobody at work writes, finished or not: left by a purge, a run or a
 * carry that ended between two steps. Returns how many were removed.
 */
async function sweep(services: Services, grant: Grant, place: Place, writerId: string): Promise<number> {
  const system = { role: "system" } as const;
  const now = services.now();
  const { spaceId } = grant;
  const kinds = [
    { object: "pack", prefix: packsOf(spaceId), name: packName },
    { object: "point", prefix: pointsFolder(spaceId), name: pointName },
  ] as const;
  let swept = 0;
  for (const { object, prefix, name } of kinds) {
    // listed before the index is read: whoever wrote what is listed had announced it by then
    const listed: string[] = [];
    for await (const found of place.list(prefix)) listed.push(lastPart(found));
    const unfinished: Unfinished[] = [];
    if (place.listUnfinished) for await (const found of place.listUnfinished(prefix)) unfinished.push(found);
    const { gone, written } = await services.db.withScope(system, async (tx) => {
      const known =
        object === "pack"
          ? await packsWithChunks(tx, spaceId)
          : await pointsInSpace(tx, grant.depotId, grant.clientId);
      const spared = new Set(known.map((one) => one.id.toString("hex")));
      const unknown = listed.filter((id) => !spared.has(id)).map((id) => Buffer.from(id, "hex"));
      const left = await takeAbandoned(tx, grant, object, writerId, now);
      const marked = await markUnknown(tx, grant, object, unknown, writerId, now);
      // asked in the same breath as the marks: what is announced later began after the listing
      const written = new Set((await objectsBeingWritten(tx, spaceId)).map((one) => one.id.toString("hex")));
      return { gone: [...left, ...marked], written };
    });
    for (const one of unfinished) {
      if (written.has(lastPart(one.name))) continue;
      await one.remove();
      swept += 1;
    }
    for (const id of gone) {
      const removed = await place.remove(name(spaceId, id.toString("hex"))).then(
        () => true,
        (error) => {
          // its lock outlasts what needed it; a later sweep removes it
          if (error instanceof CodedError && error.code === "depot.not-allowed") return false;
          throw error;
        },
      );
      if (removed) swept += 1;
      await services.db.withScope(system, (tx) => unmarkObjects(tx, spaceId, object, [id]));
    }
  }
  return swept;
}
