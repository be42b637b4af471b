import { all, change, one, type Tx } from "./scope";

export interface Point {
  readonly id: Buffer;
  readonly clientId: string;
  readonly sourceId: string;
  readonly runId: string;
  readonly depotId: string;
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
}

const POINT = `id, client_id as "clientId", source_id as "sourceId", run_id as "runId", depot_id as "depotId", moment, root, files,
  folders, links, bytes, added_bytes as "addedBytes", object_bytes as "objectBytes", dropped_at as "droppedAt",
  drop_reason as "dropReason", purge_after as "purgeAfter"`;

/** Points of a source that can still be brought back, newest first; those in grace at their place. */
export const pointsOf = (tx: Tx, sourceId: string) =>
  all<Point>(
    tx,
    `select ${POINT} from points where source_id = $1 and purged_at is null order by moment desc`,
    [sourceId],
  );
export const pointById = (tx: Tx, id: Buffer) =>
  one<Point>(tx, `select ${POINT} from points where id = $1 and purged_at is null`, [id]);
export const newestPoint = (tx: Tx, sourceId: string, depotId: string) =>
  one<Point>(
    tx,
    `select ${POINT} from points where source_id = $1 and depot_id = $2 and purged_at is null and dropped_at is null order by moment desc limit 1`,
    [sourceId, depotId],
  );
export const pointOfRun = (tx: Tx, runId: string) =>
  one<Point>(tx, `select ${POINT} from points where run_id = $1`, [runId]);

export const insertPoint = (tx: Tx, point: Omit<Point, "droppedAt" | "dropReason" | "purgeAfter">) =>
  change(
    tx,
    `insert into points (id, client_id, source_id, run_id, depot_id, moment, root, files, folders, links, bytes, added_bytes, object_bytes)
     values ($1, $2, $3, $4, $5, $6, $7, $8, $9, $10, $11, $12, $13)`,
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
    ],
  );

export const dropPoint = (tx: Tx, id: Buffer, reason: string, now: Date, purgeAfter: Date) =>
  change(
    tx,
    "update points set dropped_at = $2, drop_reason = $3, purge_after = $4 where id = $1 and dropped_at is null",
    [id, now, reason, purgeAfter],
  );
/** Points of a space whose grace is over. */
export const purgeablePoints = (tx: Tx, depotId: string, clientId: string, now: Date) =>
  all<Point>(
    tx,
    `select ${POINT} from points where depot_id = $1 and client_id = $2 and purged_at is null and purge_after <= $3`,
    [depotId, clientId, now],
  );
export const pointsInSpace = (tx: Tx, depotId: string, clientId: string) =>
  all<Point>(tx, `select ${POINT} from points where depot_id = $1 and client_id = $2 and purged_at is null`, [
    depotId,
    clientId,
  ]);
export const markPurged = (tx: Tx, ids: readonly Buffer[], now: Date) =>
  change(tx, "update points set purged_at = $2 where id = any($1) and purged_at is null", [ids, now]);

export const addedBetween = (tx: Tx, clientId: string, from: Date, to: Date) =>
  all<{ sourceId: string; added: number }>(
    tx,
    `select source_id as "sourceId", sum(added_bytes) as added from points where client_id = $1 and moment >= $2 and moment < $3 group by source_id`,
    [clientId, from, to],
  );
