import { AsyncLocalStorage } from "node:async_hooks";
import type pg from "pg";
import type { PersonId } from "@/core/ids";

/** The request with an Idempotency-Key in which a transaction runs. */
interface Keyed {
  readonly personId: PersonId;
  readonly key: string;
}
const current = new AsyncLocalStorage<Keyed>();

/** Runs work whose transactions note, when they change something, that the request with this key was carried out. */
export const withIdempotency = <T>(keyed: Keyed, work: () => Promise<T>): Promise<T> =>
  current.run(keyed, work);

/** Before a commit: the note and the change become durable together. */
export async function noteCommitted(tx: Pick<pg.PoolClient, "query">): Promise<void> {
  const keyed = current.getStore();
  if (!keyed) return;
  await tx.query("select note_committed($1, $2) where pg_current_xact_id_if_assigned() is not null", [
    keyed.personId,
    keyed.key,
  ]);
}
