import type { DepotId } from "@/core/ids";
import { all, change, one, type Tx } from "../base/scope";

/** A time in which a depot is away by plan. */
export interface Absence {
  readonly id: string;
  readonly depotId: DepotId;
  readonly from: Date;
  readonly to: Date;
  readonly note: string;
  readonly createdBy: string;
}

const ABSENCE = `id, depot_id as "depotId", from_at as "from", to_at as "to", note, created_by as "createdBy"`;

/** Absences of a depot that are not over, soonest first. */
export const absencesOf = (tx: Tx, depotId: DepotId, now: Date) =>
  all<Absence>(tx, `select ${ABSENCE} from absences where depot_id = $1 and to_at > $2 order by from_at`, [
    depotId,
    now,
  ]);
/** The absence that a depot is in; the one that lasts longest. */
export const absenceNow = (tx: Tx, depotId: DepotId, now: Date) =>
  one<Absence>(
    tx,
    `select ${ABSENCE} from absences where depot_id = $1 and from_at <= $2 and to_at > $2 order by to_at desc limit 1`,
    [depotId, now],
  );
export const insertAbsence = (tx: Tx, absence: Absence, now: Date) =>
  change(
    tx,
    "insert into absences (id, depot_id, from_at, to_at, note, created_by, created_at) values ($1, $2, $3, $4, $5, $6, $7)",
    [absence.id, absence.depotId, absence.from, absence.to, absence.note, absence.createdBy, now],
  );
export const deleteAbsence = (tx: Tx, id: string) => change(tx, "delete from absences where id = $1", [id]);
