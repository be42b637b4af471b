import type { ClientId, ConnectionId, PersonId } from "@/core/ids";
import { all, change, one, type Tx } from "../base/scope";

/** An authorisation that a person has begun at the page of a server. */
export interface Authorisation {
  readonly id: string;
  readonly clientId: ClientId;
  /** The connection that is authorised again; null for one that is new. */
  readonly connectionId: ConnectionId | null;
  readonly askedBy: PersonId;
  readonly askedAt: Date;
  readonly sealed: Buffer;
}

export const insertAuthorisation = (tx: Tx, asked: Authorisation) =>
  change(
    tx,
    `insert into authorisations (id, client_id, connection_id, asked_by, asked_at, sealed) values ($1, $2, $3, $4, $5, $6)`,
    [asked.id, asked.clientId, asked.connectionId, asked.askedBy, asked.askedAt, asked.sealed],
  );

/** Takes an authorisation out, so that it is completed once: null where there is none, or another person asked for it. */
export const takeAuthorisation = (tx: Tx, id: string, askedBy: PersonId, since: Date) =>
  one<Authorisation>(
    tx,
    `delete from authorisations where id = $1 and asked_by = $2 and asked_at >= $3
     returning id, client_id as "clientId", connection_id as "connectionId", asked_by as "askedBy", asked_at as "askedAt", sealed`,
    [id, askedBy, since],
  );

/** Removes those that nobody completed. */
export const removeAuthorisations = (tx: Tx, before: Date) =>
  all(tx, "delete from authorisations where asked_at < $1 returning id", [before]);
