import type { ClientId, MachineId } from "@/core/ids";
import type { Wrapping } from "@/core/keysheet/wrapping";
import { all, change, one, onePlanned, type Tx } from "../base/scope";

/** A client's data key as it is held. */
export interface ClientKey {
  readonly clientId: ClientId;
  /** In escrow sealed with the master key, otherwise wrapped by the passphrase; null once it is destroyed. */
  readonly sealed: Buffer | null;
  readonly holding: "escrow" | "passphrase";
  readonly wrapping: Wrapping | null;
  readonly fingerprint: string | null;
  readonly confirmedAt: Date | null;
  readonly destroyedAt: Date | null;
  /** The group of the sheet (0 to 12) that is typed to confirm. */
  readonly askedGroup: number;
  /** A hash of it, where the console cannot open the key to compare. */
  readonly askedHash: Buffer | null;
}

export const clientKey = (tx: Tx, clientId: ClientId) =>
  onePlanned<ClientKey>(
    tx,
    "key of client",
    `select client_id as "clientId", sealed, holding, wrapping, fingerprint, confirmed_at as "confirmedAt", destroyed_at as "destroyedAt",
       asked_group as "askedGroup", asked_hash as "askedHash" from client_keys where client_id = $1`,
    [clientId],
  );

/** Sets the key while nobody has confirmed one; 0 when the client has a confirmed key, which never silently changes. */
export const setUnconfirmedKey = (
  tx: Tx,
  key: Pick<
    ClientKey,
    "clientId" | "sealed" | "holding" | "wrapping" | "fingerprint" | "askedGroup" | "askedHash"
  >,
  now: Date,
) =>
  change(
    tx,
    `insert into client_keys (client_id, sealed, holding, wrapping, fingerprint, created_at, asked_group, asked_hash)
     values ($1, $2, $3, $4, $5, $6, $7, $8)
     on conflict (client_id) do update set sealed = excluded.sealed, holding = excluded.holding, wrapping = excluded.wrapping,
       fingerprint = excluded.fingerprint, created_at = excluded.created_at, asked_group = excluded.asked_group, asked_hash = excluded.asked_hash
     where client_keys.confirmed_at is null and client_keys.destroyed_at is null`,
    [
      key.clientId,
      key.sealed,
      key.holding,
      key.wrapping && JSON.stringify(key.wrapping),
      key.fingerprint,
      now,
      key.askedGroup,
      key.askedHash,
    ],
  );

export const confirmKey = (tx: Tx, clientId: ClientId, now: Date) =>
  change(
    tx,
    "update client_keys set confirmed_at = $2, asked_hash = null where client_id = $1 and confirmed_at is null",
    [clientId, now],
  );
/** Holds the same key in another way. */
export const holdKey = (tx: Tx, key: Pick<ClientKey, "clientId" | "sealed" | "holding" | "wrapping">) =>
  change(
    tx,
    "update client_keys set sealed = $2, holding = $3, wrapping = $4 where client_id = $1 and destroyed_at is null",
    [key.clientId, key.sealed, key.holding, key.wrapping && JSON.stringify(key.wrapping)],
  );
/** Lets go of the key and of every sealed copy of it. */
export async function destroyKey(tx: Tx, clientId: ClientId, now: Date): Promise<number> {
  await change(tx, "delete from machine_keys where client_id = $1", [clientId]);
  await change(tx, "delete from lent_keys where client_id = $1", [clientId]);
  return change(
    tx,
    `update client_keys set sealed = null, wrapping = null, asked_hash = null, destroyed_at = $2
     where client_id = $1 and destroyed_at is null`,
    [clientId, now],
  );
}

/** The key sealed to a machine, for a client without escrow. */
export const machineKey = (tx: Tx, machineId: MachineId) =>
  one<{ sealed: Buffer }>(tx, "select sealed from machine_keys where machine_id = $1", [machineId]);
export const setMachineKey = (tx: Tx, clientId: ClientId, machineId: MachineId, sealed: Buffer, now: Date) =>
  change(
    tx,
    `insert into machine_keys (machine_id, client_id, sealed, created_at) values ($1, $2, $3, $4)
     on conflict (machine_id) do update set sealed = excluded.sealed, created_at = excluded.created_at`,
    [machineId, clientId, sealed, now],
  );
export const forgetMachineKeys = (tx: Tx, clientId: ClientId) =>
  change(tx, "delete from machine_keys where client_id = $1", [clientId]);
export const machinesWithoutKey = (tx: Tx, clientId: ClientId) =>
  all<{ id: string; name: string; publicKey: Buffer }>(
    tx,
    `select id, name, public_key as "publicKey" from machines m where client_id = $1 and gone_at is null
       and not exists (select from machine_keys k where k.machine_id = m.id)`,
    [clientId],
  );

/** A runner that was seen since `since`. */
export const liveRunners = (tx: Tx, since: Date) =>
  all<{ id: string; publicKey: Buffer }>(
    tx,
    `select id, public_key as "publicKey" from runners where seen_at > $1`,
    [since],
  );
/** A process that keys are lent to: a runner, a viewer, or a web. */
export interface SeenRunner {
  readonly id: string;
  readonly publicKey: Buffer;
  readonly workers: readonly string[];
  readonly web: boolean;
}
export const seeRunner = (tx: Tx, { id, publicKey, workers, web }: SeenRunner, now: Date) =>
  change(
    tx,
    `insert into runners (id, public_key, workers, web, seen_at) values ($1, $2, $3, $4, $5)
     on conflict (id) do update set seen_at = excluded.seen_at, workers = excluded.workers`,
    [id, publicKey, workers, web, now],
  );
/** How many web processes have said since that they are there. */
export const websThere = async (tx: Tx, since: Date): Promise<number> =>
  (await one<{ webs: number }>(tx, "select count(*)::int as webs from runners where web and seen_at >= $1", [
    since,
  ]))!.webs;
/** The queue's workers of all runners that have said since that they are there. */
export const workersThere = async (tx: Tx, since: Date): Promise<string[]> =>
  (
    await all<{ worker: string }>(tx, "select unnest(workers) as worker from runners where seen_at >= $1", [
      since,
    ])
  ).map(({ worker }) => worker);
export const forgetRunners = (tx: Tx, before: Date) =>
  change(tx, "delete from runners where seen_at < $1", [before]);
export const lendKey = (
  tx: Tx,
  loan: {
    readonly runnerId: string;
    readonly clientId: ClientId;
    readonly sessionId: Buffer;
    readonly sealed: Buffer;
    readonly until: Date;
  },
) =>
  change(
    tx,
    `insert into lent_keys (runner_id, client_id, session_id, sealed, until) values ($1, $2, $3, $4, $5)
     on conflict (runner_id, client_id, session_id) do update set sealed = excluded.sealed, until = excluded.until`,
    [loan.runnerId, loan.clientId, loan.sessionId, loan.sealed, loan.until],
  );
/** What a process was lent of a client's key: by any session, or by the one that is given. */
export const lentKey = (tx: Tx, runnerId: string, clientId: ClientId, sessionId: Buffer | null, now: Date) =>
  one<{ sealed: Buffer }>(
    tx,
    `select sealed from lent_keys where runner_id = $1 and client_id = $2 and until > $3
       and ($4::bytea is null or session_id = $4) limit 1`,
    [runnerId, clientId, now, sessionId],
  );
export const takeClientLoansBack = (tx: Tx, clientId: ClientId) =>
  change(tx, "delete from lent_keys where client_id = $1", [clientId]);
