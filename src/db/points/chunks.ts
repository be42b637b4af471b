import type { ClientId, MachineId, SpaceId } from "@/core/ids";
import { all, change, type Tx } from "../base/scope";

/** The index: which chunk is in which pack of a space. A cache of the packs' own directories. */

/** Answers on what is known are noted on packs at most this often; a purge allows for it. */
export const USE_GRAIN_MS = 60_000;

/**
 * Packs that hold one of these chunks by the word of another machine alone: they are to be verified before anybody counts
 * on them.
 */
export const claimedPacks = (
  tx: Tx,
  spaceId: SpaceId,
  ids: readonly Uint8Array[],
  machineId: MachineId | null,
) =>
  all<{ id: Buffer; size: number }>(
    tx,
    `select p.id, p.size from packs p where p.space_id = $1 and p.claimed_by is not null and p.claimed_by is distinct from $3::uuid
       and p.id in (select pack_id from chunks where space_id = $1 and id = any($2))`,
    [spaceId, ids, machineId],
  );

/** Notes what a pack holds after its bytes were read: chunks that it only claimed are forgotten. Returns how many. */
export async function settleClaims(
  tx: Tx,
  spaceId: SpaceId,
  packId: Buffer,
  ids: readonly Uint8Array[],
): Promise<number> {
  const false_ = await change(
    tx,
    "delete from chunks where space_id = $1 and pack_id = $2 and not (id = any($3))",
    [spaceId, packId, ids],
  );
  await change(tx, "update packs set claimed_by = null where space_id = $1 and id = $2", [spaceId, packId]);
  return false_;
}

/**
 * For each id, in order, whether the space holds it for a machine: what another one merely claims does not count. What is answered yes is noted as used: a purge that runs beside does
 * not take it away. The packs' rows are locked meanwhile, so that a purge comes wholly before or wholly after.
 */
export async function knownChunks(
  tx: Tx,
  spaceId: SpaceId,
  ids: readonly Buffer[],
  now: Date,
  machineId: MachineId | null = null,
): Promise<boolean[]> {
  const rows = await all<{ n: number; packId: Buffer }>(
    tx,
    `select asked.n::int as n, chunks.pack_id as "packId" from unnest($2::bytea[]) with ordinality asked(id, n)
     join chunks on chunks.space_id = $1 and chunks.id = asked.id
     where not exists (select from packs p where p.space_id = $1 and p.id = chunks.pack_id
       and p.claimed_by is not null and p.claimed_by is distinct from $3::uuid)`,
    [spaceId, ids, machineId],
  );
  const packIds = [...new Set(rows.map((row) => row.packId.toString("hex")))].map((id) =>
    Buffer.from(id, "hex"),
  );
  const before = new Date(now.getTime() - USE_GRAIN_MS);
  // locked at once as strongly as is needed, and in one order: two runs that first share the rows, and then both want to
  // note their use, would wait for each other
  const [stale] = await all(
    tx,
    "select from packs where space_id = $1 and id = any($2) and used_at < $3 limit 1",
    [spaceId, packIds, before],
  );
  const there = await all<{ id: Buffer }>(
    tx,
    `select id from packs where space_id = $1 and id = any($2) order by id for ${stale ? "no key update" : "share"}`,
    [spaceId, packIds],
  );
  if (stale)
    await change(tx, "update packs set used_at = $3 where space_id = $1 and id = any($2) and used_at < $4", [
      spaceId,
      there.map((pack) => pack.id),
      now,
      before,
    ]);
  const whole = new Set(there.map((pack) => pack.id.toString("hex")));
  const known = new Array<boolean>(ids.length).fill(false);
  for (const { n, packId } of rows) known[n - 1] = whole.has(packId.toString("hex"));
  return known;
}

/** For each id, in order, the pack that holds it. */
export async function locateChunks(
  tx: Tx,
  spaceId: SpaceId,
  ids: readonly Uint8Array[],
): Promise<(Buffer | null)[]> {
  const rows = await all<{ n: number; packId: Buffer }>(
    tx,
    `select asked.n::int as n, chunks.pack_id as "packId" from unnest($2::bytea[]) with ordinality asked(id, n)
     join chunks on chunks.space_id = $1 and chunks.id = asked.id`,
    [spaceId, ids],
  );
  const found = new Array<Buffer | null>(ids.length).fill(null);
  for (const { n, packId } of rows) found[n - 1] = packId;
  return found;
}

export async function insertPack(
  tx: Tx,
  pack: {
    readonly spaceId: SpaceId;
    readonly clientId: ClientId;
    readonly id: Buffer;
    readonly size: number;
    readonly holds: { readonly ids: readonly Uint8Array[]; readonly contentBytes: number };
    /** Up to when the place itself keeps it. */
    readonly lockedUntil?: Date | null;
    /** The machine whose word alone says what it holds. */
    readonly claimedBy?: string | null;
  },
  now: Date,
): Promise<void> {
  await change(
    tx,
    `insert into packs (space_id, id, client_id, size, content_bytes, created_at, used_at, locked_until, claimed_by)
     values ($1, $2, $3, $4, $5, $6, $6, $7, $8)`,
    [
      pack.spaceId,
      pack.id,
      pack.clientId,
      pack.size,
      pack.holds.contentBytes || pack.size,
      now,
      pack.lockedUntil ?? null,
      pack.claimedBy ?? null,
    ],
  );
  await change(
    tx,
    `insert into chunks (space_id, id, pack_id, client_id) select $1, id, $2, $3 from unnest($4::bytea[]) as id on conflict do nothing`,
    [pack.spaceId, pack.id, pack.clientId, pack.holds.ids],
  );
}

export const packExists = async (tx: Tx, spaceId: SpaceId, id: Buffer) =>
  (await all(tx, "select from packs where space_id = $1 and id = $2", [spaceId, id])).length > 0;

export const packsWithChunks = (tx: Tx, spaceId: SpaceId) =>
  all<{ id: Buffer; size: number; usedAt: Date; lockedUntil: Date | null; chunkIds: Buffer[] | null }>(
    tx,
    `select p.id, p.size, p.used_at as "usedAt", p.locked_until as "lockedUntil", array_agg(c.id) filter (where c.id is not null) as "chunkIds" from packs p
     left join chunks c on c.space_id = p.space_id and c.pack_id = p.id where p.space_id = $1 group by p.space_id, p.id`,
    [spaceId],
  );
/** Packs in which a chunk is counted on; one whose chunks were forgotten or moved waits for its purge. */
export const packsInUse = (tx: Tx, spaceId: SpaceId) =>
  all<{ id: Buffer; size: number }>(
    tx,
    `select id, size from packs p where space_id = $1
       and exists (select from chunks c where c.space_id = p.space_id and c.pack_id = p.id)`,
    [spaceId],
  );
/** Lets go of a pack and its chunks, unless it was used since. */
export const deletePack = (tx: Tx, spaceId: SpaceId, id: Buffer, usedBefore: Date) =>
  change(tx, "delete from packs where space_id = $1 and id = $2 and used_at < $3", [spaceId, id, usedBefore]);

/** Adds a pack that takes chunks over from others. */
export async function moveChunks(
  tx: Tx,
  grant: { readonly spaceId: SpaceId; readonly clientId: ClientId },
  pack: {
    readonly id: Buffer;
    readonly size: number;
    readonly holds: { readonly ids: readonly Uint8Array[]; readonly contentBytes: number };
  },
  now: Date,
): Promise<void> {
  await change(
    tx,
    `insert into packs (space_id, id, client_id, size, content_bytes, created_at, used_at)
     values ($1, $2, $3, $4, $5, $6, $6)`,
    [grant.spaceId, pack.id, grant.clientId, pack.size, pack.holds.contentBytes, now],
  );
  await change(tx, "update chunks set pack_id = $3 where space_id = $1 and id = any($2)", [
    grant.spaceId,
    pack.holds.ids,
    pack.id,
  ]);
}

/** Packs of a space that their place does not keep up to a day. */
export const packsLockedBefore = (tx: Tx, spaceId: SpaceId, until: Date) =>
  all<{ id: Buffer }>(
    tx,
    "select id from packs where space_id = $1 and (locked_until is null or locked_until < $2)",
    [spaceId, until],
  );
export const notePackLock = (tx: Tx, spaceId: SpaceId, id: Buffer, until: Date) =>
  change(tx, "update packs set locked_until = $3 where space_id = $1 and id = $2", [spaceId, id, until]);

export const listPackIds = (tx: Tx, spaceId: SpaceId) =>
  all<{ id: Buffer }>(tx, "select id from packs where space_id = $1", [spaceId]);
