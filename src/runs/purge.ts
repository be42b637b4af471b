import { CodedError } from "@/core/codes";
import { deletePack, moveChunks, packsWithChunks, USE_GRAIN_MS } from "@/db/chunks";
import { countSpace, depotById, type Grant, listGrants, setPurgeDue } from "@/db/depots";
import { markPurged, pointsInSpace, purgeablePoints } from "@/db/points";
import { one, type Tx } from "@/db/scope";
import type { Services } from "@/server/services";
import { RUNNER, record } from "@/server/who";
import { lastPart, packName, packsOf, pointName, pointsOf as pointsFolder } from "@/store/layout";
import { Needed } from "@/store/needed";
import type { PackHolds } from "@/store/pack";
import type { Place } from "@/store/places/place";
import type { ChunkReader } from "@/store/reader";
import { idKey } from "@/store/tree";
import { StoreWriter } from "@/store/writer";

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
 * Purges one space, with runs and restores going on beside it. First the points vanish from the list, then packs that
 * nothing needs, so that whatever kills it in between leaves only objects that the next purge sweeps. Safe beside runs
 * because a pack goes only when no point in the list needs it, and no run that is going on can have counted on it: it was
 * made, and last given as known, before the oldest of them began.
 */
export async function purgeSpace(services: Services, grant: Grant): Promise<number> {
  const now = services.now();
  const system = { role: "system" } as const;
  const depot = await services.db.withScope(system, (tx) => depotById(tx, grant.depotId));
  if (!depot) return 0;
  const place = services.places.of(depot);
  const begun = await services.db.withScope(system, async (tx) => {
    const leaving = await purgeablePoints(tx, grant.depotId, grant.clientId, now);
    if (leaving.length === 0 && !grant.purgeDue) return null;
    await setPurgeDue(tx, grant.spaceId, true);
    await markPurged(
      tx,
      grant.depotId,
      leaving.map((point) => point.id),
      now,
    );
    const objects = leaving.reduce((sum, point) => sum + point.objectBytes, 0);
    return { points: leaving.length, objects, stay: await pointsInSpace(tx, grant.depotId, grant.clientId) };
  });
  if (!begun) return 0;
  const reader = await services.spaces.reader(grant.clientId, grant.depotId);
  const needed = new Needed();
  for (const point of begun.stay) await needed.add(reader, point.root);
  let freed = begun.objects;
  let spared = false;
  await services.db.withScope(system, async (tx) => {
    await oneAtATime(tx, grant);
    const cutoff = await oldestUse(tx, grant.clientId, now);
    for (const pack of await packsWithChunks(tx, grant.spaceId)) {
      if (pack.chunkIds?.some((id) => needed.has(id))) continue;
      if ((await deletePack(tx, grant.spaceId, pack.id, cutoff)) > 0) freed += pack.size;
      else spared = true;
    }
    await countSpace(tx, grant.spaceId, -freed);
  });
  freed += await rewriteThinPacks(services, grant, place, reader, needed);
  if (begun.points || freed)
    await services.db.withScope(system, (tx) =>
      record(tx, { ...RUNNER, at: now }, grant.clientId, "purged recovery points", depot.name, {
        points: begun.points,
        freed,
      }),
    );
  const swept = await sweep(services, grant, place);
  // whatever broke this off before here, or made it spare something, is a reason to come again
  if (swept !== null && !spared)
    await services.db.withScope(system, (tx) => setPurgeDue(tx, grant.spaceId, false));
  return freed;
}

/** Purges of one space do not meet; others go on beside it. */
const oneAtATime = (tx: Tx, grant: Grant) =>
  tx.query("select pg_advisory_xact_lock(hashtextextended('purge ' || $1, 0))", [grant.spaceId]);

/** Nothing that was used after this moment is taken away: the oldest run that is going on may count on it. */
async function oldestUse(tx: Tx, clientId: string, now: Date): Promise<Date> {
  const row = await one<{ at: Date | null }>(
    tx,
    "select min(started_at) as at from runs where client_id = $1 and state in ('claimed', 'reading', 'closing')",
    [clientId],
  );
  return new Date(Math.min(row?.at?.getTime() ?? now.getTime(), now.getTime()) - USE_GRAIN_MS);
}

/**
 * Writes packs anew of which little is needed: the needed chunks go into a new pack, then index and place let go of the
 * old one. Killed in between, either pack is without its row, and swept.
 */
async function rewriteThinPacks(
  services: Services,
  grant: Grant,
  place: Place,
  reader: ChunkReader,
  needed: Needed,
): Promise<number> {
  const now = services.now();
  const system = { role: "system" } as const;
  const cutoff = await services.db.withScope(system, (tx) => oldestUse(tx, grant.clientId, now));
  const thin = await services.db.withScope(system, async (tx) =>
    (await packsWithChunks(tx, grant.spaceId)).filter(
      (pack) =>
        pack.usedAt < cutoff &&
        pack.chunkIds?.length &&
        pack.chunkIds.filter((id) => needed.has(id)).length / pack.chunkIds.length <= REWRITE_BELOW,
    ),
  );
  if (thin.length === 0) return 0;
  const keys = await services.spaces.keys(grant.clientId);
  let stored = 0;
  const made: { id: Buffer; size: number; holds: PackHolds }[] = [];
  const writer = new StoreWriter(keys, {
    known: async (ids) => ids.map(() => false),
    putPack: async (packId, parts, { ids, contentBytes }) => {
      const size = await place.put(packName(grant.spaceId, packId.toString("hex")), parts);
      stored += size;
      made.push({ id: packId, size, holds: { ids: ids.map((id) => Buffer.from(id)), contentBytes } });
    },
  });
  for (const pack of thin) {
    for (const id of pack.chunkIds ?? []) {
      if (needed.nodes.has(idKey(id))) writer.add("tree", await reader.rawNode(id));
      else if (needed.chunks.has(idKey(id))) writer.add("data", await reader.chunk(id));
      await writer.room();
    }
  }
  await writer.close();
  let gone = 0;
  await services.db.withScope(system, async (tx) => {
    await oneAtATime(tx, grant);
    for (const pack of made) await moveChunks(tx, grant, pack, now);
    for (const pack of thin)
      if ((await deletePack(tx, grant.spaceId, pack.id, cutoff)) > 0) gone += pack.size;
    await countSpace(tx, grant.spaceId, stored - gone);
  });
  services.spaces.forget(grant.clientId, grant.depotId);
  return gone - stored;
}

/**
 * Removes objects that the index does not know: left by a purge or a run that died between two steps. What a run that is
 * going on has just put is not in the index yet either, so with one going on nothing is swept, and the answer is null.
 */
export async function sweep(services: Services, grant: Grant, place: Place): Promise<number | null> {
  let swept: number | null = null;
  await services.db.withScope({ role: "system" }, async (tx) => {
    await tx.query("select pg_advisory_xact_lock(hashtextextended('client ' || $1, 0))", [grant.clientId]);
    const busy = await one(
      tx,
      "select from runs where client_id = $1 and state in ('claimed', 'reading', 'closing') limit 1",
      [grant.clientId],
    );
    if (busy) return;
    swept = 0;
    const packs = new Set((await packsWithChunks(tx, grant.spaceId)).map((pack) => pack.id.toString("hex")));
    const points = new Set(
      (await pointsInSpace(tx, grant.depotId, grant.clientId)).map((point) => point.id.toString("hex")),
    );
    // listed first: a place may lose its place in a list that changes under it
    const gone: string[] = [];
    for await (const name of place.list(packsOf(grant.spaceId)))
      if (!packs.has(lastPart(name))) gone.push(packName(grant.spaceId, lastPart(name)));
    for await (const name of place.list(pointsFolder(grant.spaceId)))
      if (!points.has(lastPart(name))) gone.push(pointName(grant.spaceId, lastPart(name)));
    for (const name of gone) {
      await place.remove(name).then(
        () => {
          swept = (swept ?? 0) + 1;
        },
        (error) => {
          // its lock outlasts what needed it; a later sweep takes it
          if (!(error instanceof CodedError && error.code === "depot.not-allowed")) throw error;
        },
      );
    }
  });
  return swept;
}
