import { CodedError } from "@/core/codes";
import { clausesSchema } from "@/core/policy/clauses";
import { decideRetention } from "@/core/retention/decide";
import { deletePack, packsWithChunks } from "@/db/chunks";
import { countSpace, depotById, type Grant, listGrants } from "@/db/depots";
import { dropPoint, markPurged, pointsInSpace, pointsOf, purgeablePoints } from "@/db/points";
import { policyById } from "@/db/policies";
import { one, type Tx } from "@/db/scope";
import { sourceById } from "@/db/sources";
import type { Services } from "@/server/services";
import { placeOf } from "@/server/space-readers";
import { record } from "@/server/who";
import { lastPart, packName, packsOf, pointName, pointsOf as pointsFolder } from "@/store/layout";
import type { Place } from "@/store/places/place";
import type { StoreReader } from "@/store/reader";
import { splitIds } from "@/store/tree";
import { idKey } from "@/store/writer";

/** Days in which a dropped point can still be brought back. */
export const GRACE_DAYS = 7;
const RUNNER = { actor: "Deep Keep", address: "runner" };

/** Drops the points of a source that its policy no longer keeps. They stay restorable for the days of grace. */
export async function applyRetention(services: Services, sourceId: string): Promise<number> {
  const now = services.now();
  return services.db.withScope({ role: "system" }, async (tx) => {
    const source = await sourceById(tx, sourceId);
    const policy = source?.policyId ? await policyById(tx, source.policyId) : null;
    if (!source || !policy || source.paused) return 0;
    const points = (await pointsOf(tx, sourceId)).filter((point) => !point.droppedAt);
    const decisions = decideRetention(
      points.map((point) => ({ id: point.id.toString("hex"), moment: point.moment })),
      clausesSchema.parse(policy.clauses).howLong,
      now,
    );
    const leaving = decisions.filter((decision) => !decision.keep);
    const purgeAfter = new Date(now.getTime() + GRACE_DAYS * 86_400_000);
    for (const decision of leaving)
      await dropPoint(tx, Buffer.from(decision.id, "hex"), decision.reason, now, purgeAfter);
    if (leaving.length) {
      await record(tx, { ...RUNNER, at: now }, source.clientId, "dropped recovery points", source.name, {
        points: leaving.length,
        reason: leaving[0]!.reason,
        purgeAfter,
      });
    }
    return leaving.length;
  });
}

/** Purges what is past its grace, in every space. Returns the bytes that became free. */
export async function purgeAll(services: Services): Promise<number> {
  const grants = await services.db.withScope({ role: "system" }, (tx) => listGrants(tx));
  let freed = 0;
  for (const grant of grants) freed += await purgeSpace(services, grant);
  return freed;
}

/**
 * Purges one space. It holds the space while it works and gives way to runs: with one going on there, it does nothing
 * and the next time does it. First the points vanish from the list, then packs that no point needs, so that whatever
 * kills it in between leaves only objects that the next purge sweeps.
 */
export async function purgeSpace(services: Services, grant: Grant): Promise<number> {
  const now = services.now();
  const depot = await services.db.withScope({ role: "system" }, (tx) => depotById(tx, grant.depotId));
  if (!depot) return 0;
  const place = placeOf(depot);
  return services.db
    .withScope({ role: "system" }, async (tx) => {
      await holdClient(tx, grant.clientId);
      const busy = await one(
        tx,
        "select from runs where client_id = $1 and state in ('claimed', 'reading', 'closing') limit 1",
        [grant.clientId],
      );
      if (busy) return 0;
      const leaving = await purgeablePoints(tx, grant.depotId, grant.clientId, now);
      if (leaving.length === 0) return 0;
      const reader = await services.spaces.reader(grant.clientId, grant.depotId);
      await markPurged(
        tx,
        leaving.map((point) => point.id),
        now,
      );
      const needed = new Set<string>();
      for (const point of await pointsInSpace(tx, grant.depotId, grant.clientId))
        await markNeeded(reader, point.root, needed);
      let freed = 0;
      for (const pack of await packsWithChunks(tx, grant.spaceId)) {
        if (pack.chunkIds?.some((id) => needed.has(idKey(id)))) continue;
        await deletePack(tx, grant.spaceId, pack.id);
        freed += pack.size;
      }
      freed += leaving.reduce((sum, point) => sum + point.objectBytes, 0);
      await countSpace(tx, grant.spaceId, -freed);
      await record(tx, { ...RUNNER, at: now }, grant.clientId, "purged recovery points", depot.name, {
        points: leaving.length,
        freed,
      });
      return freed;
    })
    .then(async (freed) => {
      if (freed > 0) await sweep(services, grant, place);
      return freed;
    });
}

/** Removes objects that the index does not know: left by a purge or a run that died between two steps. */
async function sweep(services: Services, grant: Grant, place: Place): Promise<void> {
  await services.db.withScope({ role: "system" }, async (tx) => {
    await holdClient(tx, grant.clientId);
    const busy = await one(
      tx,
      "select from runs where client_id = $1 and state in ('claimed', 'reading', 'closing') limit 1",
      [grant.clientId],
    );
    if (busy) return;
    const packs = new Set((await packsWithChunks(tx, grant.spaceId)).map((pack) => pack.id.toString("hex")));
    const points = new Set(
      (await pointsInSpace(tx, grant.depotId, grant.clientId)).map((point) => point.id.toString("hex")),
    );
    for await (const name of place.list(packsOf(grant.spaceId)))
      if (!packs.has(lastPart(name))) await place.remove(packName(grant.spaceId, lastPart(name)));
    for await (const name of place.list(pointsFolder(grant.spaceId)))
      if (!points.has(lastPart(name))) await place.remove(pointName(grant.spaceId, lastPart(name)));
  });
}

/** Nothing of this client is claimed until the transaction ends. */
const holdClient = (tx: Tx, clientId: string) =>
  tx.query("select pg_advisory_xact_lock(hashtextextended('client ' || $1, 0))", [clientId]);

/** Marks every node and chunk below a node. A node seen before was marked with all below it. */
async function markNeeded(reader: StoreReader, node: Uint8Array, needed: Set<string>): Promise<void> {
  const key = idKey(node);
  if (needed.has(key)) return;
  needed.add(key);
  const content = await reader.node(node);
  if (content.kind === "chunks") for (const id of splitIds(content.ids)) needed.add(idKey(id));
  else if (content.kind === "pages")
    for (const page of content.pages) await markNeeded(reader, page.node, needed);
  else if (content.kind === "folder") {
    for (const entry of content.entries) {
      if (entry.node) await markNeeded(reader, entry.node, needed);
      if (entry.chunks) for (const id of splitIds(entry.chunks)) needed.add(idKey(id));
      if (entry.chunkPages)
        for (const page of splitIds(entry.chunkPages)) await markNeeded(reader, page, needed);
    }
  } else throw new CodedError("store.damaged", "a tree node of an unknown kind");
}
