import { all, change, type Tx } from "./scope";

/** What stops dropping and purging until somebody lifts it: of all points of a source, or of one. */
export interface Hold {
  readonly id: string;
  readonly clientId: string;
  readonly sourceId: string;
  readonly pointId: Buffer | null;
  readonly reason: string;
  readonly placedBy: string;
  readonly placedAt: Date;
}

const HOLD = `id, client_id as "clientId", source_id as "sourceId", point_id as "pointId", reason, placed_by as "placedBy", placed_at as "placedAt"`;

/** Holds in force on a source. */
export const holdsOf = (tx: Tx, sourceId: string) =>
  all<Hold>(tx, `select ${HOLD} from holds where source_id = $1 and lifted_at is null order by placed_at`, [
    sourceId,
  ]);

export const placeHold = (tx: Tx, hold: Hold) =>
  change(
    tx,
    `insert into holds (id, client_id, source_id, point_id, reason, placed_by, placed_at) values ($1, $2, $3, $4, $5, $6, $7)`,
    [hold.id, hold.clientId, hold.sourceId, hold.pointId, hold.reason, hold.placedBy, hold.placedAt],
  );
export const liftHold = (tx: Tx, id: string, by: string, now: Date) =>
  change(tx, "update holds set lifted_by = $2, lifted_at = $3 where id = $1 and lifted_at is null", [
    id,
    by,
    now,
  ]);
