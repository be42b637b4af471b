import { one, type Tx } from "./scope";

/**
 * Every advisory lock of the application, so that no two share a key by accident. The migrations have two of their own:
 * 7205759 (the trail's chain, 0002) and 7205760 (migrating, migrate.ts).
 */
export const ADVISORY_LOCKS = {
  /** The first owner is made by one request. */
  firstOwner: "first owner",
  /** Runs under the limits of a depot or policy are claimed one at a time. */
  claimsUnderLimits: "claims under limits",
  /** The room of a depot, by its id. */
  depotRoom: "depot room",
  /** Held by a writer of a space for as long as its process lives, by the writer's id. */
  writer: "writer",
  /** Sessions and attempts that are counted together, by what they are counted for. */
  attempts: "attempts",
} as const;
export type AdvisoryLock = keyof typeof ADVISORY_LOCKS;

const key = (lock: AdvisoryLock, of = ""): string => `${ADVISORY_LOCKS[lock]} ${of}`;

/** Takes a lock up to the transaction's end; waits for whoever holds it. */
export const lockInTx = (tx: Tx, lock: AdvisoryLock, of?: string) =>
  tx.query("select pg_advisory_xact_lock(hashtextextended($1, 0))", [key(lock, of)]);

/** Takes a lock up to the transaction's end, unless somebody holds it. Returns whether it was free. */
export const tryLockInTx = async (tx: Tx, lock: AdvisoryLock, of?: string): Promise<boolean> =>
  (await one<{ free: boolean }>(tx, "select pg_try_advisory_xact_lock(hashtextextended($1, 0)) as free", [
    key(lock, of),
  ]))!.free;

/** Takes a lock for as long as a connection lives. */
export const lockConnection = (connection: Tx, lock: AdvisoryLock, of?: string) =>
  connection.query("select pg_advisory_lock(hashtextextended($1, 0))", [key(lock, of)]);
export const unlockConnection = (connection: Tx, lock: AdvisoryLock, of?: string) =>
  connection.query("select pg_advisory_unlock(hashtextextended($1, 0))", [key(lock, of)]);
