import { all, change, type Tx } from "./scope";

/** Where a point's data lies: its first place and those it was carried to, the whole ones first. */
export const placesOfPoint = async (tx: Tx, pointId: Buffer) =>
  (
    await all<{ depotId: string }>(
      tx,
      `select d.depot_id as "depotId" from placed_points d join points p on p.id = d.id where d.id = $1 and d.purged_at is null
       order by d.damaged_at nulls first, d.depot_id <> p.depot_id`,
      [pointId],
    )
  ).map((row) => row.depotId);

/** How many places each point of a source has. */
export const placesOfSource = (tx: Tx, sourceId: string) =>
  all<{ depotName: string; points: number; newest: Date }>(
    tx,
    `select d.name as "depotName", count(*)::int as points, max(pp.moment) as newest
     from placed_points pp join depots d on d.id = pp.depot_id
     where pp.source_id = $1 and pp.purged_at is null and pp.dropped_at is null group by d.id, d.name order by d.name`,
    [sourceId],
  );

/** Packs of one space that another lacks. */
export const packsToCarry = (tx: Tx, fromSpace: string, toSpace: string) =>
  all<{ id: Buffer; size: number }>(
    tx,
    `select id, size from packs p where space_id = $1 and not exists (select from packs o where o.space_id = $2 and o.id = p.id)
       and exists (select from chunks c where c.space_id = p.space_id and c.pack_id = p.id) order by created_at`,
    [fromSpace, toSpace],
  );

/** Counts a carried pack into its new space, with the chunks that it holds in the old one. */
export async function insertCarriedPack(
  tx: Tx,
  pack: { readonly id: Buffer; readonly size: number },
  spaces: { readonly from: string; readonly to: string; readonly clientId: string },
  now: Date,
): Promise<void> {
  await change(
    tx,
    "insert into packs (space_id, id, client_id, size, created_at, used_at) values ($1, $2, $3, $4, $5, $5)",
    [spaces.to, pack.id, spaces.clientId, pack.size, now],
  );
  await change(
    tx,
    `insert into chunks (space_id, id, pack_id, client_id) select $2, id, pack_id, client_id from chunks where space_id = $1 and pack_id = $3
     on conflict do nothing`,
    [spaces.from, spaces.to, pack.id],
  );
}

/** Points of a client that lie in one depot, whose policy carries them to another, and that are not there yet. */
export const pointsToCarry = (tx: Tx, clientId: string, fromDepot: string, toDepot: string) =>
  all<{ id: Buffer; size: number }>(
    tx,
    `select p.id, p.object_bytes as size from points p join sources s on s.id = p.source_id join policies po on po.id = s.policy_id
     where p.client_id = $1 and p.depot_id = $2 and p.purged_at is null and p.dropped_at is null and p.damaged_at is null
       and po.clauses->'where'->'carryTo' ? $3::text
       and not exists (select from copies c where c.point_id = p.id and c.depot_id = $3::uuid)
     order by p.moment`,
    [clientId, fromDepot, toDepot],
  );
export const insertCopy = (
  tx: Tx,
  copy: {
    readonly pointId: Buffer;
    readonly depotId: string;
    readonly clientId: string;
    readonly objectBytes: number;
    readonly lockedUntil: Date | null;
  },
  now: Date,
) =>
  change(
    tx,
    `insert into copies (point_id, depot_id, client_id, object_bytes, carried_at, locked_until) values ($1, $2, $3, $4, $5, $6)
     on conflict do nothing`,
    [copy.pointId, copy.depotId, copy.clientId, copy.objectBytes, now, copy.lockedUntil],
  );

/** Other spaces of a client that hold a pack. */
export const spacesWithPack = (tx: Tx, clientId: string, packId: Buffer, notIn: string) =>
  all<{ spaceId: string; depotId: string }>(
    tx,
    `select g.space_id as "spaceId", g.depot_id as "depotId" from packs p join grants g on g.space_id = p.space_id
     where p.client_id = $1 and p.id = $2 and p.space_id <> $3`,
    [clientId, packId, notIn],
  );
/** Pairs of depots between which something may be carried, over all clients. */
export const carriesWanted = (tx: Tx) =>
  all<{ clientId: string; fromDepot: string; toDepot: string }>(
    tx,
    `select distinct po.client_id as "clientId", (po.clauses->'where'->>'depotId')::uuid as "fromDepot", t.to_depot::uuid as "toDepot"
     from policies po cross join lateral jsonb_array_elements_text(coalesce(po.clauses->'where'->'carryTo', '[]')) t(to_depot)`,
  );
