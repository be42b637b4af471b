import { change, one, type Tx } from "./scope";

/** A client's data key as it is held: sealed with the master key. */
export interface ClientKey {
  readonly clientId: string;
  readonly sealed: Buffer;
  readonly confirmedAt: Date | null;
  /** The group of the sheet (0 to 12) that is typed to confirm. */
  readonly askedGroup: number;
}

export const clientKey = (tx: Tx, clientId: string) =>
  one<ClientKey>(
    tx,
    `select client_id as "clientId", sealed, confirmed_at as "confirmedAt", asked_group as "askedGroup" from client_keys where client_id = $1`,
    [clientId],
  );

/** Sets the key while nobody has confirmed one; 0 when the client has a confirmed key, which never silently changes. */
export const setUnconfirmedKey = (tx: Tx, clientId: string, sealed: Buffer, askedGroup: number, now: Date) =>
  change(
    tx,
    `insert into client_keys (client_id, sealed, created_at, asked_group) values ($1, $2, $3, $4)
     on conflict (client_id) do update set sealed = excluded.sealed, created_at = excluded.created_at, asked_group = excluded.asked_group
     where client_keys.confirmed_at is null`,
    [clientId, sealed, now, askedGroup],
  );

export const confirmKey = (tx: Tx, clientId: string, now: Date) =>
  change(tx, "update client_keys set confirmed_at = $2 where client_id = $1 and confirmed_at is null", [
    clientId,
    now,
  ]);
