import { CodedError } from "@/core/codes";
import type { ClientId, SpaceId } from "@/core/ids";
import { tryLockInTx } from "../base/advisory-locks";
import { all, change, inTurn, one, type Tx } from "../base/scope";
import { USE_GRAIN_MS } from "../points/chunks";

/** Who writes into a client's space beside the runs: migrations/0033-writers.sql. */
export type WriterKind = "carry" | "mend" | "purge" | "check";
export interface Writer {
  readonly id: string;
  readonly clientId: ClientId;
  readonly spaceId: SpaceId;
  readonly kind: WriterKind;
}

/** Registers a writer. False for a purge, or a check that confirms, beside another purge or check of the space. */
export const registerWriter = async (tx: Tx, writer: Writer, now: Date): Promise<boolean> =>
  (await change(
    tx,
    `insert into writers (id, client_id, space_id, kind, started_at) values ($1, $2, $3, $4, $5)
     on conflict (space_id) where kind in ('purge', 'check') do nothing`,
    [writer.id, writer.clientId, writer.spaceId, writer.kind, now],
  )) > 0;

export const removeWriter = (tx: Tx, id: string) => change(tx, "delete from writers where id = $1", [id]);

/**
 * Keeps a writer registered up to the transaction's end. Throws `request.conflict` when it no longer is: its connection
 * was lost, and a purge may have freed what it counted on.
 */
export async function holdWriter(tx: Tx, id: string): Promise<void> {
  if (!(await one(tx, "select from writers where id = $1 for share", [id])))
    throw new CodedError("request.conflict", "the connection to the database was lost; the job starts again");
}

/** Removes writers of a space whose process has ended. */
export async function removeDeadWriters(tx: Tx, spaceId: SpaceId): Promise<void> {
  const writers = await all<{ id: string }>(tx, "select id from writers where space_id = $1", [spaceId]);
  await inTurn(writers, async ({ id }) => {
    if (await tryLockInTx(tx, "writer", id)) await removeWriter(tx, id);
  });
}

/**
 * The moment before which nothing was used by anybody who is still at work: the start of the oldest run or carry into the
 * space. Must be asked before the points that stay are read: whoever ends in between has its points among them.
 */
export async function oldestUse(tx: Tx, clientId: ClientId, spaceId: SpaceId, now: Date): Promise<Date> {
  const row = await one<{ at: Date | null }>(
    tx,
    `select least(
       (select min(started_at) from runs where client_id = $1 and state <> 'ended'),
       (select min(started_at) from writers where space_id = $2 and kind = 'carry')) as at`,
    [clientId, spaceId],
  );
  return new Date(Math.min(row?.at?.getTime() ?? now.getTime(), now.getTime()) - USE_GRAIN_MS);
}
