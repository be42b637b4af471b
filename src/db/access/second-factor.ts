import type { PersonId } from "@/core/ids";
import { change, one, type Tx } from "../base/scope";

/** Starts over: a seed that does not count before a code of it was given. */
export const setSeed = (tx: Tx, personId: PersonId, sealed: Buffer) =>
  change(
    tx,
    "update people set factor_seed = $2, factor_confirmed_at = null, factor_step = null where id = $1",
    [personId, sealed],
  );
export const confirmFactor = (tx: Tx, personId: PersonId, step: number, now: Date) =>
  change(tx, "update people set factor_confirmed_at = $3, factor_step = $2 where id = $1", [
    personId,
    step,
    now,
  ]);
/** Uses a step of time up. */
export const spendStep = (tx: Tx, personId: PersonId, step: number) =>
  change(
    tx,
    "update people set factor_step = $2 where id = $1 and (factor_step is null or factor_step < $2)",
    [personId, step],
  );
export async function removeFactor(tx: Tx, personId: PersonId): Promise<void> {
  await change(
    tx,
    "update people set factor_seed = null, factor_confirmed_at = null, factor_step = null where id = $1",
    [personId],
  );
  await change(tx, "delete from recovery_codes where person_id = $1", [personId]);
}
export async function setRecoveryCodes(tx: Tx, personId: PersonId, ids: readonly Buffer[]): Promise<void> {
  await change(tx, "delete from recovery_codes where person_id = $1", [personId]);
  await change(tx, "insert into recovery_codes (person_id, id) select $1, unnest($2::bytea[])", [
    personId,
    ids,
  ]);
}
/** Uses a recovery code up; 0 when it is none or was used. */
export const spendRecoveryCode = (tx: Tx, personId: PersonId, id: Buffer, now: Date) =>
  change(tx, "update recovery_codes set used_at = $3 where person_id = $1 and id = $2 and used_at is null", [
    personId,
    id,
    now,
  ]);
export const recoveryCodesLeft = async (tx: Tx, personId: PersonId) =>
  (await one<{ count: number }>(
    tx,
    "select count(*) from recovery_codes where person_id = $1 and used_at is null",
    [personId],
  ))!.count;
