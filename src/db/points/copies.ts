import type { ClientId, DepotId, SourceId, SpaceId } from "@/core/ids";
import { all, allPlanned, change, type Tx } from "../base/scope";

/**
 * Where a point's data lies, in the order in which to read: whole places before damaged ones, those that are there before
 * those that are away, a disk before a bucket, the place where it was made before those it was carried to.
 */
export const placesOfPoints = async (tx: Tx, pointIds: readonly Buffer[], now: Date) => {
  const places = new Map<string, string[]>();
  const rows = await allPlanned<{ id: Buffer; depotId: DepotId }>(
    tx,
    "places of points",
    `select pp.id, pp.depot_id as "depotId" from placed_points pp join points p on p.id = pp.id join depots d on d.id = pp.depot_id
       where pp.id = any($1) and pp.purged_at is null
       order by pp.damaged_at nulls first,
         exists (select from absences a where a.depot_id = pp.depot_id and a.from_at <= $2 and a.to_at > $2),
         d.kind = 's3', pp.depot_id <> p.depot_id`,
    [pointIds, now],
  );
  for (const { id, depotId } of rows) {
    const key = id.toString("hex");
    places.set(key, [...(places.get(key) ?? []), depotId]);
  }
  return pointIds.map((id) => places.get(id.toString("hex")) ?? []);
};
export const placesOfPoint = async (tx: Tx, pointId: Buffer, now: Date) =>
  (await placesOfPoints(tx, [pointId], now))[0]!;

/** How many places each point of a source has. */
export const placesOfSource = (tx: Tx, sourceId: SourceId) =>
  all<{ depotName: string; points: number; newest: Date }>(
    tx,
    `select d.name as "depotName", count(*)::int as points, max(pp.moment) as newest
     from placed_points pp join depots d on d.id = pp.depot_id
     where pp.source_id = $1 and pp.purged_at is null and pp.dropped_at is null group by d.id, d.name order by d.name`,
    [sourceId],
  );

/** Packs of one space that hold what another lacks. A pack that is there under its name is not carried again. */
export const packsToCarry = (tx: Tx, fromSpace: string, toSpace: string) =>
  all<{ id: Buffer; size: number }>(
    tx,
    `select id, size from packs p where space_id = $1 and not exists (select from packs o where o.space_id = $2 and o.id = p.id)
       and exists (select from chunks c where c.space_id = p.space_id and c.pack_id = p.id
         and not exists (select from chunks there where there.space_id = $2 and there.id = c.id))
     order by created_at`,
    [fromSpace, toSpace],
  );

/** Notes that whatever two spaces share is counted on in the second: a purge beside spares its packs. */
export const noteSharedPacks = (tx: Tx, fromSpace: string, toSpace: string, now: Date) =>
  change(
    tx,
    `update packs p set used_at = $3 where p.space_id = $2 and p.used_at < $3
       and exists (select from chunks c join chunks o on o.space_id = $1 and o.id = c.id
         where c.space_id = p.space_id and c.pack_id = p.id)`,
    [fromSpace, toSpace, now],
  );

/** Counts a carried pack into its new space, with the chunks that it holds in the old one. 0 when it is there already. */
export async function insertCarriedPack(
  tx: Tx,
  pack: { readonly id: Buffer },
  spaces: { readonly from: string; readonly to: string },
  now: Date,
): Promise<number> {
  const inserted = await change(
    tx,
    `insert into packs (space_id, id, client_id, size, content_bytes, created_at, used_at, claimed_by)
     select $2, id, client_id, size, content_bytes, $4, $4, claimed_by from packs where space_id = $1 and id = $3 on conflict do nothing`,
    [spaces.from, spaces.to, pack.id, now],
  );
  if (inserted)
    await change(
      tx,
      `insert into chunks (space_id, id, pack_id, client_id) select $2, id, pack_id, client_id from chunks where space_id = $1 and pack_id = $3
       on conflict (space_id, id) do update set pack_id = excluded.pack_id`,
      [spaces.from, spaces.to, pack.id],
    );
  return inserted;
}

/**
 * Points of a client that lie whole in one depot and lack in another: those whose policy carries them there, and those
 * whose run could not write there.
 */
export const pointsToCarry = (tx: Tx, clientId: ClientId, fromDepot: string, toDepot: string) =>
  all<{ id: Buffer; size: number }>(
    tx,
    `select p.id, p.object_bytes as size from placed_points p join sources s on s.id = p.source_id
     where p.client_id = $1 and p.depot_id = $2 and p.purged_at is null and p.dropped_at is null and p.damaged_at is null
       and (s.rules->'where'->'carryTo' ? $3::text
         or exists (select from run_depots rd where rd.run_id = p.run_id and rd.depot_id = $3::uuid and rd.state in ('failed', 'behind', 'away')))
       and not exists (select from placed_points o where o.id = p.id and o.depot_id = $3::uuid)
     order by p.moment`,
    [clientId, fromDepot, toDepot],
  );
export const insertCopy = (
  tx: Tx,
  copy: {
    readonly pointId: Buffer;
    readonly depotId: DepotId;
    readonly clientId: ClientId;
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
export const spacesWithPack = (tx: Tx, clientId: ClientId, packId: Buffer, notIn: string) =>
  all<{ spaceId: SpaceId; depotId: DepotId }>(
    tx,
    `select g.space_id as "spaceId", g.depot_id as "depotId" from packs p join grants g on g.space_id = p.space_id
     where p.client_id = $1 and p.id = $2 and p.space_id <> $3`,
    [clientId, packId, notIn],
  );
/** Pairs of depots between which something may be carried, over all clients. */
export const carriesWanted = (tx: Tx) =>
  all<{ clientId: ClientId; fromDepot: string; toDepot: string }>(
    tx,
    `select w.client_id as "clientId", f.from_depot::uuid as "fromDepot", t.to_depot::uuid as "toDepot"
     from (select distinct client_id, rules->'where' as place from sources where rules is not null) w
     cross join lateral jsonb_array_elements_text(jsonb_build_array(w.place->>'depotId') || coalesce(w.place->'beside', '[]')) f(from_depot)
     cross join lateral jsonb_array_elements_text(coalesce(w.place->'carryTo', '[]')) t(to_depot)
     union
     select rd.client_id, p.depot_id, rd.depot_id from run_depots rd join points p on p.run_id = rd.run_id
     where rd.state in ('failed', 'behind', 'away') and p.purged_at is null and p.dropped_at is null and p.depot_id <> rd.depot_id`,
  );

/** The depots in which a point lies whole. */
export const wholePlacesOf = async (tx: Tx, pointId: Buffer) =>
  (
    await all<{ depotId: DepotId }>(
      tx,
      `select depot_id as "depotId" from placed_points where id = $1 and purged_at is null and damaged_at is null`,
      [pointId],
    )
  ).map((row) => row.depotId);
