import { all, change, type Tx } from "./scope";

/** The index: which chunk is in which pack of a space. A cache of the packs' own directories. */

/** For each id, in order, whether the space holds it. */
export async function knownChunks(tx: Tx, spaceId: string, ids: readonly Buffer[]): Promise<boolean[]> {
  const rows = await all<{ n: number }>(
    tx,
    `select asked.n::int as n from unnest($2::bytea[]) with ordinality asked(id, n)
     where exists (select from chunks where space_id = $1 and chunks.id = asked.id)`,
    [spaceId, ids],
  );
  const known = new Array<boolean>(ids.length).fill(false);
  for (const { n } of rows) known[n - 1] = true;
  return known;
}

/** For each id, in order, the pack that holds it. */
export async function locateChunks(
  tx: Tx,
  spaceId: string,
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
  pack: { spaceId: string; clientId: string; id: Buffer; size: number; chunkIds: readonly Buffer[] },
  now: Date,
): Promise<void> {
  await change(
    tx,
    "insert into packs (space_id, id, client_id, size, created_at) values ($1, $2, $3, $4, $5)",
    [pack.spaceId, pack.id, pack.clientId, pack.size, now],
  );
  await change(
    tx,
    `insert into chunks (space_id, id, pack_id, client_id) select $1, id, $2, $3 from unnest($4::bytea[]) as id on conflict do nothing`,
    [pack.spaceId, pack.id, pack.clientId, pack.chunkIds],
  );
}

export const packExists = async (tx: Tx, spaceId: string, id: Buffer) =>
  (await all(tx, "select from packs where space_id = $1 and id = $2", [spaceId, id])).length > 0;

export const packsWithChunks = (tx: Tx, spaceId: string) =>
  all<{ id: Buffer; size: number; chunkIds: Buffer[] }>(
    tx,
    `select p.id, p.size, array_agg(c.id) filter (where c.id is not null) as "chunkIds" from packs p
     left join chunks c on c.space_id = p.space_id and c.pack_id = p.id where p.space_id = $1 group by p.space_id, p.id`,
    [spaceId],
  );
export const deletePack = (tx: Tx, spaceId: string, id: Buffer) =>
  change(tx, "delete from packs where space_id = $1 and id = $2", [spaceId, id]);
