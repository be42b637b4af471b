import { all, change, one, type Tx } from "./scope";

export interface Depot {
  readonly id: string;
  readonly name: string;
  readonly kind: "folder";
  readonly path: string;
  readonly region: string;
  /** What the provider lets it hold; null: as much as the disk. */
  readonly capacityBytes: number | null;
}

/** A client's share of a depot. */
export interface Grant {
  readonly depotId: string;
  readonly clientId: string;
  readonly spaceId: string;
  readonly quotaBytes: number;
  readonly usedBytes: number;
}

const DEPOT = `d.id, d.name, d.kind, d.path, d.region, d.capacity_bytes as "capacityBytes"`;
const GRANT = `depot_id as "depotId", client_id as "clientId", space_id as "spaceId", quota_bytes as "quotaBytes", used_bytes as "usedBytes"`;

export const listDepots = (tx: Tx) =>
  all<Depot & { usedBytes: number }>(
    tx,
    `select ${DEPOT}, coalesce((select sum(used_bytes) from grants g where g.depot_id = d.id), 0) as "usedBytes" from depots d order by d.name`,
  );
export const depotById = (tx: Tx, id: string) =>
  one<Depot>(tx, `select ${DEPOT} from depots d where d.id = $1`, [id]);
export const insertDepot = (tx: Tx, depot: Depot, now: Date) =>
  change(
    tx,
    "insert into depots (id, name, kind, path, region, capacity_bytes, created_at) values ($1, $2, $3, $4, $5, $6, $7)",
    [depot.id, depot.name, depot.kind, depot.path, depot.region, depot.capacityBytes, now],
  );

export const listGrants = (tx: Tx) => all<Grant>(tx, `select ${GRANT} from grants`);
export const grantOf = (tx: Tx, depotId: string, clientId: string) =>
  one<Grant>(tx, `select ${GRANT} from grants where depot_id = $1 and client_id = $2`, [depotId, clientId]);
/** Grants a depot to a client, or changes the quota of a grant that is there. */
export const upsertGrant = (tx: Tx, grant: Omit<Grant, "usedBytes">, now: Date) =>
  change(
    tx,
    `insert into grants (depot_id, client_id, space_id, quota_bytes, created_at) values ($1, $2, $3, $4, $5)
     on conflict (depot_id, client_id) do update set quota_bytes = excluded.quota_bytes`,
    [grant.depotId, grant.clientId, grant.spaceId, grant.quotaBytes, now],
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
  await tx.query("select pg_advisory_xact_lock(hashtextextended($1, 0))", [grant.depotId]);
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
export const countSpace = (tx: Tx, spaceId: string, bytes: number) =>
  change(tx, "update grants set used_bytes = greatest(0, used_bytes + $2) where space_id = $1", [
    spaceId,
    bytes,
  ]);
