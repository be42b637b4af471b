import type { PersonId } from "@/core/ids";
import { change, one, type Tx } from "./scope";

/** What is kept of creating requests, so that a repetition gets the first answer again. */

export interface KeptAnswer {
  readonly hash: Buffer;
  readonly status: number | null;
  readonly sealed: Buffer | null;
  /** Whether the request changed something. */
  readonly committed: boolean;
  readonly at: Date;
}

/**
 * Takes a key for a request. Null when it is the caller's now: for the first time, or because whoever had it was silent for
 * so long (milliseconds) and had changed nothing. Else what is kept of it.
 */
export async function takeKey(
  tx: Tx,
  personId: PersonId,
  key: string,
  hash: Buffer,
  now: Date,
  silentMs: number,
): Promise<KeptAnswer | null> {
  const mine = await change(
    tx,
    `insert into idempotency_keys as k (person_id, key, request_hash, created_at) values ($1, $2, $3, $4)
     on conflict (person_id, key) do update set created_at = excluded.created_at
     where k.request_hash = excluded.request_hash and k.status is null and not k.committed
       and k.created_at < excluded.created_at - make_interval(secs => $5 / 1000.0)`,
    [personId, key, hash, now, silentMs],
  );
  if (mine) return null;
  return one<KeptAnswer>(
    tx,
    "select request_hash as hash, status, sealed, committed, created_at as at from idempotency_keys where person_id = $1 and key = $2",
    [personId, key],
  );
}

/** Gives a key back whose request failed without having changed anything. */
export const giveKeyBack = (tx: Tx, personId: PersonId, key: string) =>
  change(tx, "delete from idempotency_keys where person_id = $1 and key = $2 and not committed", [
    personId,
    key,
  ]);
export const keepAnswer = (tx: Tx, personId: PersonId, key: string, status: number, sealed: Buffer) =>
  change(tx, "update idempotency_keys set status = $3, sealed = $4 where person_id = $1 and key = $2", [
    personId,
    key,
    status,
    sealed,
  ]);
export const deleteOldKeys = (tx: Tx, before: Date) =>
  change(tx, "delete from idempotency_keys where created_at < $1", [before]);
