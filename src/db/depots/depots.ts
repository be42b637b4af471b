import type { BucketPlace } from "@/core/bucket";
import type { ClientId, DepotId, SpaceId } from "@/core/ids";
import type { RefusedLockFacts } from "@/core/protection/causes";
import { lockInTx } from "../base/advisory-locks";
import { all, allPlanned, change, one, type Tx } from "../base/scope";

export type DepotKind = "folder" | "share" | "s3";

export interface Depot {
  readonly id: DepotId;
  readonly name: string;
  readonly kind: DepotKind;
  /** The folder, or for a bucket its address as people see it. */
  readonly path: string;
  /** Set for a bucket. */
  readonly settings: BucketPlace | Record<string, never>;
  /** A bucket's secret access key, sealed with the master key. */
  readonly secret: Buffer | null;
  readonly region: string;
  /** What the provider lets it hold; null: as much as the disk. */
  readonly capacityBytes: number | null;
  /**
   * How machines reach it past the console: `presigned` for a bucket, for a folder or share the path under which they see
   * it; null: they do not.
   */
  readonly direct: string | null;
  /** How many runs write to it at once; null: any number. */
  readonly atOnce: number | null;
}

/** A client's share of a depot. */
export interface Grant {
  readonly depotId: DepotId;
  readonly clientId: ClientId;
  readonly spaceId: SpaceId;
  readonly quotaBytes: number;
  readonly usedBytes: number;
  /** Days in which what is stored cannot be dropped or altered by anybody. */
  readonly lockDays: number;
  /** Something may be left for a purge to take away. */
  readonly purgeDue: boolean;
}

const DEPOT = `d.id, d.name, d.kind, d.path, d.settings, d.secret, d.region, d.capacity_bytes as "capacityBytes", d.direct, d.at_once as "atOnce"`;
const GRANT = `depot_id as "depotId", client_id as "clientId", space_id as "spaceId", quota_bytes as "quotaBytes", used_bytes as "usedBytes", lock_days as "lockDays", purge_due as "purgeDue"`;

export const listDepots = (tx: Tx) =>
  allPlanned<Depot & { usedBytes: number }>(
    tx,
    "all depots",
    `select ${DEPOT}, coalesce((select sum(used_bytes) from grants g where g.depot_id = d.id), 0) as "usedBytes" from depots d order by d.name`,
  );
export const depotById = (tx: Tx, id: DepotId) =>
  one<Depot>(tx, `select ${DEPOT} from depots d where d.id = $1`, [id]);
export const insertDepot = (tx: Tx, depot: Omit<Depot, "atOnce">, now: Date) =>
  change(
    tx,
    `insert into depots (id, name, kind, path, settings, secret, region, capacity_bytes, direct, created_at)
     values ($1, $2, $3, $4, $5, $6, $7, $8, $9, $10)`,
    [
      depot.id,
      depot.name,
      depot.kind,
      depot.path,
      JSON.stringify(depot.settings),
      depot.secret,
      depot.region,
      depot.capacityBytes,
      depot.direct,
      now,
    ],
  );
export const setDirect = (tx: Tx, id: string, direct: string | null) =>
  change(tx, "update depots set direct = $2 where id = $1", [id, direct]);

export const noteLockRefused = (tx: Tx, depotId: DepotId, clientId: ClientId, error: string, now: Date) =>
  change(
    tx,
    `update grants set lock_refused = $3, lock_refused_at = coalesce(lock_refused_at, $4) where depot_id = $1 and client_id = $2`,
    [depotId, clientId, error, now],
  );
export const clearLockRefused = (tx: Tx, depotId: DepotId, clientId: ClientId) =>
  change(
    tx,
    "update grants set lock_refused = null, lock_refused_at = null where depot_id = $1 and client_id = $2 and lock_refused is not null",
    [depotId, clientId],
  );
export const refusedLocks = (tx: Tx, clientId: ClientId | null) =>
  all<RefusedLockFacts>(
    tx,
    `select g.depot_id as "depotId", d.name as "depotName", g.client_id as "clientId", c.name as "clientName", g.lock_refused as error,
       g.lock_refused_at as since
     from grants g join depots d on d.id = g.depot_id join clients c on c.id = g.client_id
     where g.lock_refused is not null and ($1::uuid is null or g.client_id = $1) order by d.name, c.name`,
    [clientId],
  );

/** Another access key, in the settings of its bucket, and its secret, sealed. */
export const setDepotKeys = (tx: Tx, id: string, settings: BucketPlace, secret: Buffer) =>
  change(tx, "update depots set settings = $2, secret = $3 where id = $1", [id, settings, secret]);

export const listGrants = (tx: Tx) => all<Grant>(tx, `select ${GRANT} from grants`);
/** Grants of which at least such a share (0 to 1) is used. */
export const fullGrants = (tx: Tx, share: number) =>
  all<Grant>(tx, `select ${GRANT} from grants where used_bytes >= quota_bytes * $1::float8`, [share]);
export const grantOf = (tx: Tx, depotId: DepotId, clientId: ClientId) =>
  one<Grant>(tx, `select ${GRANT} from grants where depot_id = $1 and client_id = $2`, [depotId, clientId]);
/** Grants a depot to a client, or changes the quota of a grant that is there. */
export const upsertGrant = (tx: Tx, grant: Omit<Grant, "usedBytes" | "purgeDue">, now: Date) =>
  change(
    tx,
    `insert into grants (depot_id, client_id, space_id, quota_bytes, lock_days, created_at) values ($1, $2, $3, $4, $5, $6)
     on conflict (depot_id, client_id) do update set quota_bytes = excluded.quota_bytes, lock_days = excluded.lock_days`,
    [grant.depotId, grant.clientId, grant.spaceId, grant.quotaBytes, grant.lockDays, now],
  );

/**
 * Counts bytes onto a grant if quota and capacity have room for them. Returns what stands against it otherwise. The
 * depot's row is locked, so that two writers do not both take the last room.
 */
export async function takeSpace(
  tx: Tx,
  grant: Grant,
  bytes: number,
): Promise<"taken" | "quota" | "capacity"> {
  await lockInTx(tx, "depotRoom", grant.depotId);
  const row = await one<{ quotaLeft: number; capacityLeft: number | null }>(
    tx,
    `select g.quota_bytes - g.used_bytes as "quotaLeft", d.capacity_bytes - depot_used(d.id) as "capacityLeft"
     from grants g join depots d on d.id = g.depot_id where g.space_id = $1`,
    [grant.spaceId],
  );
  if (!row || row.quotaLeft < bytes) return "quota";
  if (row.capacityLeft !== null && row.capacityLeft < bytes) return "capacity";
  await countSpace(tx, grant.spaceId, bytes);
  return "taken";
}

/** Adds to what a grant uses; a negative number when space was freed. */
export const countSpace = (tx: Tx, spaceId: SpaceId, bytes: number) =>
  change(tx, "update grants set used_bytes = greatest(0, used_bytes + $2) where space_id = $1", [
    spaceId,
    bytes,
  ]);

export const setPurgeDue = (tx: Tx, spaceId: SpaceId, due: boolean) =>
  change(tx, "update grants set purge_due = $2 where space_id = $1", [spaceId, due]);
/** Follows a server of buckets to another address. */
export const moveBuckets = (tx: Tx, before: string, after: string) =>
  change(
    tx,
    `update depots set path = $2 || substr(path, length($1) + 1), settings = jsonb_set(settings, '{endpoint}', to_jsonb($2::text))
     where kind = 's3' and settings->>'endpoint' = $1`,
    [before, after],
  );

/** What a depot would hold if everything were stored as often as it is kept, once each, and as it is. Bytes. */
export interface Savings {
  /** What the points show, together. */
  readonly shown: number;
  /** Their content, each chunk once. */
  readonly once: number;
  /** Compressed and sealed, in packs. */
  readonly stored: number;
}
export const savingsOf = (tx: Tx, depotId: DepotId, clientId: ClientId | null) =>
  one<Savings>(
    tx,
    `select (select coalesce(sum(bytes), 0) from placed_points where depot_id = $1 and ($2::uuid is null or client_id = $2) and purged_at is null) as shown,
       coalesce(sum(p.content_bytes), 0) as once, coalesce(sum(p.size), 0) as stored
     from packs p join grants g on g.space_id = p.space_id where g.depot_id = $1 and ($2::uuid is null or g.client_id = $2)`,
    [depotId, clientId],
  );
export const setDepotAtOnce = (tx: Tx, id: string, atOnce: number | null) =>
  change(tx, "update depots set at_once = $2 where id = $1", [id, atOnce]);
