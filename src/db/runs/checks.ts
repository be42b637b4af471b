import type { ClientId, DepotId, SpaceId } from "@/core/ids";
import type { DamageFacts } from "@/core/protection/causes";
import type { PointNamed } from "@/core/protection/damages";
import { all, allPlanned, change, one, type Tx } from "../base/scope";

export const CHECK_DEPTHS = ["objects", "trees", "bytes"] as const;
/** Objects are there with their size; or also directories and trees are whole; or also every byte is. */
export type CheckDepth = (typeof CHECK_DEPTHS)[number];

export interface Check {
  readonly id: string;
  readonly clientId: ClientId;
  readonly depotId: DepotId;
  readonly depth: CheckDepth;
  readonly requestedBy: string;
  readonly requestedAt: Date;
  readonly startedAt: Date | null;
  readonly endedAt: Date | null;
  readonly outcome: "clean" | "damage" | "failed" | null;
  readonly message: string | null;
  readonly figures: Readonly<Record<string, number>>;
  /** How far every byte was read, for a check that goes on after a break. */
  readonly verified: VerifiedTo | null;
}
/** Packs are read in the order of their ids. */
export interface VerifiedTo {
  /** The last pack that was read, hex. */
  readonly to: string;
  /** Those up to it that were not whole. */
  readonly suspect: readonly string[];
  readonly bytes: number;
}

const CHECK = `id, client_id as "clientId", depot_id as "depotId", depth, requested_by as "requestedBy", requested_at as "requestedAt",
  started_at as "startedAt", ended_at as "endedAt", outcome, message, figures, verified`;

export const checkById = (tx: Tx, id: string) =>
  one<Check>(tx, `select ${CHECK} from checks where id = $1`, [id]);
/** Checks of a depot, newest first. */
export const checksOf = (tx: Tx, depotId: DepotId, clientId: ClientId | null, limit = 20) =>
  all<Check & { clientName: string }>(
    tx,
    `select ${CHECK.replaceAll(/(^|, |\n {2})(\w+)/g, "$1k.$2")}, c.name as "clientName" from checks k join clients c on c.id = k.client_id
     where k.depot_id = $1 and ($2::uuid is null or k.client_id = $2) order by k.requested_at desc limit $3`,
    [depotId, clientId, limit],
  );
/** A check of this space that has not ended. */
export const openCheck = (tx: Tx, depotId: DepotId, clientId: ClientId) =>
  one<Check>(
    tx,
    `select ${CHECK} from checks where depot_id = $1 and client_id = $2 and ended_at is null order by requested_at limit 1`,
    [depotId, clientId],
  );
export const insertCheck = (
  tx: Tx,
  check: Pick<Check, "id" | "clientId" | "depotId" | "depth" | "requestedBy" | "requestedAt">,
) =>
  change(
    tx,
    `insert into checks (id, client_id, depot_id, depth, requested_by, requested_at) values ($1, $2, $3, $4, $5, $6)`,
    [check.id, check.clientId, check.depotId, check.depth, check.requestedBy, check.requestedAt],
  );
export const beginCheck = (tx: Tx, id: string, now: Date) =>
  change(tx, "update checks set started_at = $2 where id = $1", [id, now]);
export const noteCheck = (
  tx: Tx,
  id: string,
  figures: Check["figures"],
  verified: Check["verified"],
): Promise<number> =>
  change(tx, "update checks set figures = $2, verified = $3 where id = $1 and ended_at is null", [
    id,
    JSON.stringify(figures),
    verified && JSON.stringify(verified),
  ]);
/** Those that did not end. */
export const openChecks = async (tx: Tx): Promise<string[]> =>
  (await all<{ id: string }>(tx, "select id from checks where ended_at is null order by requested_at")).map(
    ({ id }) => id,
  );
export const endCheck = (
  tx: Tx,
  id: string,
  outcome: NonNullable<Check["outcome"]>,
  message: string | null,
  figures: Check["figures"],
  now: Date,
) =>
  change(tx, "update checks set outcome = $2, message = $3, figures = $4, ended_at = $5 where id = $1", [
    id,
    outcome,
    message,
    JSON.stringify(figures),
    now,
  ]);

/** An object in which a check found damage, and what of which points it touches. */
export interface Damage {
  readonly object: "pack" | "point";
  readonly objectId: Buffer;
  readonly foundAt: Date;
  readonly detail: string;
  readonly touches: readonly { readonly pointId: string; readonly path: string }[];
}

export const damagesOf = (tx: Tx, spaceId: SpaceId) =>
  all<Damage>(
    tx,
    `select object, object_id as "objectId", found_at as "foundAt", detail, touches from damages where space_id = $1 order by found_at`,
    [spaceId],
  );
/** Clients' shares of depots in which damage is known. */
export const damagedShares = (tx: Tx) =>
  all<{ readonly depotId: DepotId; readonly clientId: ClientId }>(
    tx,
    `select distinct g.depot_id as "depotId", g.client_id as "clientId" from damages d join grants g on g.space_id = d.space_id`,
  );
/** The recovery points that damage touches, by their ids in hex. */
export const pointsNamed = (tx: Tx, ids: readonly string[]) =>
  all<PointNamed>(
    tx,
    `select encode(p.id, 'hex') as id, s.name as "sourceName", p.moment from points p join sources s on s.id = p.source_id
     where p.id = any(select decode(i, 'hex') from unnest($1::text[]) i)`,
    [ids],
  );
export const noteDamage = (tx: Tx, spaceId: SpaceId, clientId: ClientId, damage: Damage) =>
  change(
    tx,
    `insert into damages (space_id, client_id, object, object_id, found_at, detail, touches) values ($1, $2, $3, $4, $5, $6, $7)
     on conflict (space_id, object, object_id) do update set detail = excluded.detail, touches = excluded.touches`,
    [
      spaceId,
      clientId,
      damage.object,
      damage.objectId,
      damage.foundAt,
      damage.detail,
      JSON.stringify(damage.touches),
    ],
  );
export const forgetDamages = (tx: Tx, spaceId: SpaceId) =>
  change(tx, "delete from damages where space_id = $1", [spaceId]);

/** Sets which points of a depot are damaged there; all others are whole. */
export async function markDamaged(
  tx: Tx,
  depotId: DepotId,
  clientId: ClientId,
  ids: readonly Buffer[],
  now: Date,
): Promise<void> {
  for (const [table, id] of [
    ["points", "id"],
    ["copies", "point_id"],
  ] as const)
    await change(
      tx,
      `update ${table} set damaged_at = case when ${id} = any($3) then coalesce(damaged_at, $4) end
       where depot_id = $1 and client_id = $2 and purged_at is null and (damaged_at is not null) <> (${id} = any($3))`,
      [depotId, clientId, ids, now],
    );
}
/** Forgets chunks of a pack (null: all of them): the next run that has one of them stores it anew. */
export const forgetChunks = (tx: Tx, spaceId: SpaceId, packId: Buffer, ids: readonly Buffer[] | null) =>
  change(
    tx,
    "delete from chunks where space_id = $1 and pack_id = $2 and ($3::bytea[] is null or id = any($3))",
    [spaceId, packId, ids],
  );

/** Sources with points of which something is damaged in a depot, and how many of those lie whole in another. */
export const damagedSources = (tx: Tx, clientId: ClientId | null) =>
  allPlanned<DamageFacts>(
    tx,
    "damaged sources",
    `select p.depot_id as "depotId", d.name as "depotName", p.source_id as "sourceId", count(*)::int as points, min(p.damaged_at) as since,
       (count(*) filter (where exists (select from placed_points o where o.id = p.id and o.depot_id <> p.depot_id
         and o.damaged_at is null and o.purged_at is null)))::int as elsewhere
     from placed_points p join depots d on d.id = p.depot_id
     where p.damaged_at is not null and p.purged_at is null and p.dropped_at is null and ($1::uuid is null or p.client_id = $1)
     group by p.depot_id, d.name, p.source_id order by d.name`,
    [clientId],
  );
