import { CodedError } from "@/core/codes";
import type { ClientId, DepotId, RunId, SpaceId } from "@/core/ids";
import { all, change, one, type Tx } from "../base/scope";

/**
 * Objects between a depot and its index: announced before their first byte is written, settled in the transaction that
 * indexes them. A sweep marks what it removes in the same table, so that one row decides between the two.
 */
export interface PendingObject {
  readonly spaceId: SpaceId;
  readonly object: "pack" | "point";
  readonly id: Buffer;
}
/** Who writes it: a run, or a registered writer. */
export type WrittenBy = { readonly runId: RunId } | { readonly writerId: string };

const runOf = (by: WrittenBy) => ("runId" in by ? by.runId : null);
const writerOf = (by: WrittenBy) => ("writerId" in by ? by.writerId : null);

/** True where nobody who announced the object `o` is still at work. */
const ABANDONED = (
  o: string,
) => `not exists (select from runs r where r.id = ${o}.run_id and r.state <> 'ended')
  and not exists (select from writers w where w.id = ${o}.writer_id)`;

/**
 * Announces an object before it is written; announcing it again is no error. Throws `request.conflict` while somebody else
 * writes or removes it.
 */
export async function announceObject(
  tx: Tx,
  object: PendingObject,
  clientId: ClientId,
  by: WrittenBy,
  now: Date,
): Promise<void> {
  const announced = await change(
    tx,
    `insert into pending_objects as o (space_id, object, id, client_id, state, run_id, writer_id, since)
     values ($1, $2, $3, $4, 'writing', $5, $6, $7)
     on conflict (space_id, object, id) do update set run_id = excluded.run_id, writer_id = excluded.writer_id, since = excluded.since
     where o.state = 'writing'
       and ((o.run_id = excluded.run_id or o.writer_id = excluded.writer_id) or ${ABANDONED("o")})`,
    [object.spaceId, object.object, object.id, clientId, runOf(by), writerOf(by), now],
  );
  if (announced === 0)
    throw new CodedError(
      "request.conflict",
      `the ${object.object} ${object.id.toString("hex")} is being written or removed by another job`,
    );
}

/**
 * Ends an announcement, in the transaction that indexes the object. Throws `request.conflict` when a sweep took the object
 * for abandoned: it is written again then.
 */
export async function settleObject(tx: Tx, object: PendingObject, by: WrittenBy): Promise<void> {
  if ((await withdrawObject(tx, object, by)) === 0)
    throw new CodedError(
      "request.conflict",
      `the ${object.object} ${object.id.toString("hex")} was removed by a sweep before it was indexed`,
    );
}

/** Ends an announcement of what was not written, or was removed again. */
export const withdrawObject = (tx: Tx, object: PendingObject, by: WrittenBy) =>
  change(
    tx,
    `delete from pending_objects where space_id = $1 and object = $2 and id = $3 and state = 'writing'
       and (run_id = $4 or writer_id = $5)`,
    [object.spaceId, object.object, object.id, runOf(by), writerOf(by)],
  );

/** Whether a space has objects whose writer has ended. */
export const abandonedObjects = async (tx: Tx, spaceId: SpaceId): Promise<boolean> =>
  (await one(tx, `select from pending_objects o where o.space_id = $1 and ${ABANDONED("o")} limit 1`, [
    spaceId,
  ])) !== null;

/** The space of a client in a depot. */
interface Space {
  readonly spaceId: SpaceId;
  readonly depotId: DepotId;
  readonly clientId: ClientId;
}

/**
 * Takes over what was announced, or marked for removal, by whoever has ended. Returns what this sweep must remove: objects
 * that the index has after all stay.
 */
export async function takeAbandoned(
  tx: Tx,
  space: Space,
  object: PendingObject["object"],
  sweepId: string,
  now: Date,
): Promise<readonly Buffer[]> {
  const taken = await all<{ id: Buffer }>(
    tx,
    `update pending_objects o set state = 'removing', run_id = null, writer_id = $3, since = $4
     where o.space_id = $1 and o.object = $2 and ${ABANDONED("o")} returning id`,
    [space.spaceId, object, sweepId, now],
  );
  return spareIndexed(tx, space, object, taken);
}

/**
 * Marks objects for removal, of which the depot's listing names some that nothing knows. Returns those that nobody indexed
 * or announced meanwhile: no other may write them until the marks are gone.
 */
export async function markUnknown(
  tx: Tx,
  space: Space,
  object: PendingObject["object"],
  ids: readonly Buffer[],
  sweepId: string,
  now: Date,
): Promise<readonly Buffer[]> {
  const marked = await all<{ id: Buffer }>(
    tx,
    `insert into pending_objects (space_id, object, id, client_id, state, writer_id, since)
     select $1, $2, id, $4, 'removing', $5, $6 from unnest($3::bytea[]) as id on conflict do nothing returning id`,
    [space.spaceId, object, ids, space.clientId, sweepId, now],
  );
  return spareIndexed(tx, space, object, marked);
}

/** Takes the marks off objects that the index has. Asked once the marks are there: nobody can index one of them after. */
async function spareIndexed(
  tx: Tx,
  space: Space,
  object: PendingObject["object"],
  marked: readonly { readonly id: Buffer }[],
): Promise<readonly Buffer[]> {
  const ids = marked.map((one) => one.id);
  const indexed = await (object === "pack"
    ? all<{ id: Buffer }>(tx, "select id from packs where space_id = $1 and id = any($2)", [
        space.spaceId,
        ids,
      ])
    : all<{ id: Buffer }>(
        tx,
        "select id from placed_points where depot_id = $1 and client_id = $2 and id = any($3) and purged_at is null",
        [space.depotId, space.clientId, ids],
      ));
  await unmarkObjects(
    tx,
    space.spaceId,
    object,
    indexed.map((one) => one.id),
  );
  const spared = new Set(indexed.map((one) => one.id.toString("hex")));
  return ids.filter((id) => !spared.has(id.toString("hex")));
}

/** Ends the marks of objects that are removed. */
export const unmarkObjects = (
  tx: Tx,
  spaceId: SpaceId,
  object: PendingObject["object"],
  ids: readonly Buffer[],
) =>
  change(
    tx,
    "delete from pending_objects where space_id = $1 and object = $2 and id = any($3) and state = 'removing'",
    [spaceId, object, ids],
  );

/** Objects of a space that somebody at work writes. */
export const objectsBeingWritten = (tx: Tx, spaceId: SpaceId) =>
  all<{ object: PendingObject["object"]; id: Buffer }>(
    tx,
    "select object, id from pending_objects where space_id = $1 and state = 'writing'",
    [spaceId],
  );
