import type { ClientId, RunId, SourceId } from "@/core/ids";
import { all, change, type Tx } from "../base/scope";

/** What stops dropping and purging until somebody lifts it: of all points of a source, or of one. */
export interface Hold {
  readonly id: string;
  readonly clientId: ClientId;
  readonly sourceId: SourceId;
  readonly pointId: Buffer | null;
  readonly reason: string;
  readonly placedBy: string;
  readonly placedAt: Date;
  /** Set when the program placed it, on an alarm. */
  readonly evidence: BurstEvidence | null;
}

/** What was seen when something seemed to eat files. */
export interface BurstEvidence {
  readonly changedShare: number;
  readonly denserShare: number;
  /** Where most of it was. */
  readonly folder: string;
  /** The last point before it, in hex, and its moment: the files were whole then. */
  readonly before: string | null;
  readonly beforeMoment: string | null;
  readonly runId: RunId;
}

const HOLD = `id, client_id as "clientId", source_id as "sourceId", point_id as "pointId", reason, placed_by as "placedBy", placed_at as "placedAt", evidence`;

/** Holds in force on a source. */
export const holdsOf = (tx: Tx, sourceId: SourceId) =>
  all<Hold>(tx, `select ${HOLD} from holds where source_id = $1 and lifted_at is null order by placed_at`, [
    sourceId,
  ]);

/**
 * The last moment before the first alarm of a source that nobody has dismissed: points after it may hold what cannot be
 * read. Null where no alarm stands, or no point is from before it.
 */
export const lastGoodMoment = async (
  tx: Tx,
  sourceId: SourceId,
): Promise<{ readonly alarm: Date; readonly before: Date | null } | null> => {
  const [first] = (await holdsOf(tx, sourceId)).filter((hold) => hold.evidence);
  if (!first) return null;
  const { beforeMoment } = first.evidence!;
  return { alarm: first.placedAt, before: beforeMoment ? new Date(beforeMoment) : null };
};
/** Whether a point was made after the last good moment. */
export const isSuspect = (alarm: { readonly before: Date | null } | null, moment: Date): boolean =>
  alarm !== null && (alarm.before === null || moment > alarm.before);

export const placeHold = (tx: Tx, hold: Hold) =>
  change(
    tx,
    `insert into holds (id, client_id, source_id, point_id, reason, placed_by, placed_at, evidence) values ($1, $2, $3, $4, $5, $6, $7, $8)`,
    [
      hold.id,
      hold.clientId,
      hold.sourceId,
      hold.pointId,
      hold.reason,
      hold.placedBy,
      hold.placedAt,
      hold.evidence && JSON.stringify(hold.evidence),
    ],
  );
export const liftHold = (tx: Tx, id: string, by: string, now: Date) =>
  change(tx, "update holds set lifted_by = $2, lifted_at = $3 where id = $1 and lifted_at is null", [
    id,
    by,
    now,
  ]);
