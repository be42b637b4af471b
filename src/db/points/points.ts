import type { ClientId, DepotId, RunId, SourceId } from "@/core/ids";
import { all, allPlanned, change, one, onePlanned, type Tx } from "../base/scope";

export interface Point {
  readonly id: Buffer;
  readonly clientId: ClientId;
  readonly sourceId: SourceId;
  /** Null for a point that came from an adopted depot. */
  readonly runId: RunId | null;
  readonly depotId: DepotId;
  readonly moment: Date;
  readonly root: Buffer;
  readonly files: number;
  readonly folders: number;
  readonly links: number;
  readonly bytes: number;
  /** Bytes that this point added to the depot. */
  readonly addedBytes: number;
  readonly objectBytes: number;
  readonly droppedAt: Date | null;
  readonly dropReason: string | null;
  readonly purgeAfter: Date | null;
  /** Nobody drops or alters it before. */
  readonly lockedUntil: Date | null;
  /** Since when a check finds that not all of it can be read. */
  readonly damagedAt: Date | null;
  /** Files that the point after it has not; null while nobody has looked, and for the newest. */
  readonly lastCopies: number | null;
}

const POINT = `id, client_id as "clientId", source_id as "sourceId", run_id as "runId", depot_id as "depotId", moment, root, files,
  folders, links, bytes, added_bytes as "addedBytes", object_bytes as "objectBytes", dropped_at as "droppedAt",
  drop_reason as "dropReason", purge_after as "purgeAfter", locked_until as "lockedUntil", damaged_at as "damagedAt", last_copies as "lastCopies"`;

/** Points of a source that can still be brought back, newest first; those in grace at their place. */
export const pointsOf = (tx: Tx, sourceId: SourceId) =>
  allPlanned<Point>(
    tx,
    "points of source",
    `select ${POINT} from points where source_id = $1 and purged_at is null order by moment desc`,
    [sourceId],
  );
export const pointById = (tx: Tx, id: Buffer) =>
  onePlanned<Point>(tx, "point by id", `select ${POINT} from points where id = $1 and purged_at is null`, [
    id,
  ]);
/** The newest point of a source that any of these depots holds. */
export const newestPoint = (tx: Tx, sourceId: SourceId, depotIds: readonly string[]) =>
  one<Point>(
    tx,
    `select ${POINT} from placed_points where source_id = $1 and depot_id = any($2) and purged_at is null and dropped_at is null
     order by moment desc, damaged_at nulls first limit 1`,
    [sourceId, depotIds],
  );
export const pointOfRun = (tx: Tx, runId: RunId) =>
  one<Point>(tx, `select ${POINT} from points where run_id = $1`, [runId]);

export const insertPoint = (
  tx: Tx,
  point: Omit<Point, "droppedAt" | "dropReason" | "purgeAfter" | "damagedAt" | "lastCopies">,
) =>
  change(
    tx,
    `insert into points (id, client_id, source_id, run_id, depot_id, moment, root, files, folders, links, bytes, added_bytes, object_bytes, locked_until)
     values ($1, $2, $3, $4, $5, $6, $7, $8, $9, $10, $11, $12, $13, $14)`,
    [
      point.id,
      point.clientId,
      point.sourceId,
      point.runId,
      point.depotId,
      point.moment,
      point.root,
      point.files,
      point.folders,
      point.links,
      point.bytes,
      point.addedBytes,
      point.objectBytes,
      point.lockedUntil,
    ],
  );

export const dropPoint = (tx: Tx, id: Buffer, reason: string, now: Date, purgeAfter: Date) =>
  change(
    tx,
    "update points set dropped_at = $2, drop_reason = $3, purge_after = $4 where id = $1 and dropped_at is null",
    [id, now, reason, purgeAfter],
  );
/** Locks points in every place, up to a day that is not before the one they have. */
export async function lockPoints(tx: Tx, ids: readonly Buffer[], until: Date): Promise<void> {
  for (const [table, id] of [
    ["points", "id"],
    ["copies", "point_id"],
  ] as const)
    await change(
      tx,
      `update ${table} set locked_until = $2 where ${id} = any($1) and purged_at is null and (locked_until is null or locked_until < $2)`,
      [ids, until],
    );
}
export const setLastCopies = (tx: Tx, id: Buffer, files: number) =>
  change(tx, "update points set last_copies = $2 where id = $1", [id, files]);
/** Brings a dropped point back while its grace lasts. */
export const bringBack = (tx: Tx, id: Buffer, now: Date) =>
  change(
    tx,
    `update points set dropped_at = null, drop_reason = null, purge_after = null
     where id = $1 and dropped_at is not null and purged_at is null and purge_after > $2`,
    [id, now],
  );
/**
 * Points of a space whose grace is over and that nothing holds: no lock, no hold, no viewing that is open, no restore
 * that waits or goes on, no download that was asked for, and no run that goes on from them.
 */
export const purgeablePoints = (tx: Tx, depotId: DepotId, clientId: ClientId, now: Date) =>
  all<Point>(
    tx,
    `select ${POINT} from placed_points p where depot_id = $1 and client_id = $2 and purged_at is null and purge_after <= $3
       and (locked_until is null or locked_until <= $3)
       and not exists (select from holds h where h.source_id = p.source_id and h.lifted_at is null and (h.point_id is null or h.point_id = p.id))
       and not exists (select from viewings v where v.point_id = p.id and v.ended_at is null and v.expires_at > $3)
       and not exists (select from runs r where r.client_id = $2 and r.state <> 'ended'
         and (r.request->'items' @> jsonb_build_array(jsonb_build_object('pointId', encode(p.id, 'hex'))) or r.request->>'previous' = encode(p.id, 'hex')))
       and not exists (select from archives a where a.client_id = $2 and a.created_at > $3::timestamptz - interval '2 hours'
         and a.request->'items' @> jsonb_build_array(jsonb_build_object('pointId', encode(p.id, 'hex'))))`,
    [depotId, clientId, now],
  );
export const pointsInSpace = (tx: Tx, depotId: DepotId, clientId: ClientId) =>
  all<Point>(
    tx,
    `select ${POINT} from placed_points where depot_id = $1 and client_id = $2 and purged_at is null`,
    [depotId, clientId],
  );
/** Keeps a point from being purged in a depot up to the transaction's end. False where it was purged. */
export async function holdPlacedPoint(tx: Tx, id: Buffer, depotId: DepotId): Promise<boolean> {
  const values = [id, depotId];
  const made = await one(
    tx,
    "select from points where id = $1 and depot_id = $2 and purged_at is null for share",
    values,
  );
  if (made) return true;
  return (
    (await one(
      tx,
      "select from copies where point_id = $1 and depot_id = $2 and purged_at is null for share",
      values,
    )) !== null
  );
}
/** Notes that points are gone from one depot. */
export async function markPurged(tx: Tx, depotId: DepotId, ids: readonly Buffer[], now: Date): Promise<void> {
  await change(
    tx,
    "update points set purged_at = $3 where depot_id = $1 and id = any($2) and purged_at is null",
    [depotId, ids, now],
  );
  await change(
    tx,
    "update copies set purged_at = $3 where depot_id = $1 and point_id = any($2) and purged_at is null",
    [depotId, ids, now],
  );
}

export const addedBetween = (tx: Tx, clientId: ClientId, from: Date, to: Date) =>
  all<{ sourceId: SourceId; added: number }>(
    tx,
    `select source_id as "sourceId", sum(added_bytes) as added from points where client_id = $1 and moment >= $2 and moment < $3 group by source_id`,
    [clientId, from, to],
  );

/** What a client has in all depots, for the certificate of its key's destruction. */
export const pointsOfClient = async (tx: Tx, clientId: ClientId) =>
  (await one<{
    points: number;
    sources: number;
    first: Date | null;
    last: Date | null;
    lockedUntil: Date | null;
  }>(
    tx,
    `select count(*)::int as points, count(distinct source_id)::int as sources, min(moment) as first, max(moment) as last,
       (select max(locked_until) from placed_points where client_id = $1 and purged_at is null) as "lockedUntil"
     from points where client_id = $1 and purged_at is null`,
    [clientId],
  ))!;
