import type { Code } from "@/core/codes";
import type { ClientId, ConnectionId, SiteId } from "@/core/ids";
import type { NetworkKind } from "@/kinds";
import type { ConnectionSettings } from "@/kinds/settings";
import { all, change, one, type Tx } from "../base/scope";

/** How sources are reached over the network. Enrolled machines are in `machines`. */
export interface Connection {
  readonly id: ConnectionId;
  readonly clientId: ClientId;
  readonly siteId: SiteId;
  readonly kind: NetworkKind;
  readonly name: string;
  /** Where it answers: an origin such as `https://mail.example`. */
  readonly address: string;
  readonly settings: ConnectionSettings;
  /** Sealed with the master key. */
  readonly secret: Buffer;
  readonly checkedAt: Date | null;
  /** Why the last look at it failed; null when it went well. */
  readonly checkCode: Code | null;
  readonly checkMessage: string | null;
  readonly goneAt: Date | null;
}

const CONNECTION = `id, client_id as "clientId", site_id as "siteId", kind, name, address, settings, secret,
  checked_at as "checkedAt", check_code as "checkCode", check_message as "checkMessage", gone_at as "goneAt"`;

export const listConnections = (tx: Tx, clientId: ClientId | null = null) =>
  all<Connection>(
    tx,
    `select ${CONNECTION} from connections where ($1::uuid is null or client_id = $1) order by name`,
    [clientId],
  );
export const connectionById = (tx: Tx, id: ConnectionId) =>
  one<Connection>(tx, `select ${CONNECTION} from connections where id = $1`, [id]);

export const insertConnection = (
  tx: Tx,
  connection: Omit<Connection, "checkedAt" | "checkCode" | "checkMessage" | "goneAt">,
  now: Date,
) =>
  change(
    tx,
    `insert into connections (id, client_id, site_id, kind, name, address, settings, secret, created_at)
     values ($1, $2, $3, $4, $5, $6, $7, $8, $9)`,
    [
      connection.id,
      connection.clientId,
      connection.siteId,
      connection.kind,
      connection.name,
      connection.address,
      JSON.stringify(connection.settings),
      connection.secret,
      now,
    ],
  );

/** The secret of a connection, which nobody else changes until the transaction ends. */
export const lockSecret = (tx: Tx, id: ConnectionId) =>
  one<Pick<Connection, "secret">>(tx, "select secret from connections where id = $1 for update", [id]);
export const setSecret = (tx: Tx, id: string, secret: Buffer) =>
  change(tx, "update connections set secret = $2 where id = $1", [id, secret]);
/** Where a connection answers now, and what its settings name. */
export const setPlace = (tx: Tx, id: string, address: string, settings: ConnectionSettings) =>
  change(tx, "update connections set address = $2, settings = $3 where id = $1", [
    id,
    address,
    JSON.stringify(settings),
  ]);
export const markChecked = (tx: Tx, id: string, now: Date, code: Code | null, message: string | null) =>
  change(tx, "update connections set checked_at = $2, check_code = $3, check_message = $4 where id = $1", [
    id,
    now,
    code,
    message,
  ]);
/** Takes a connection away; its sources and their points remain. */
export const markConnectionGone = (tx: Tx, id: string, now: Date) =>
  change(tx, "update connections set gone_at = $2 where id = $1 and gone_at is null", [id, now]);

/** Marks the sources of a connection that the far end no longer has, and those that came back. */
export const markVanished = (tx: Tx, id: string, remoteIds: readonly string[], now: Date) =>
  change(
    tx,
    `update sources set vanished_at = case when remote_id = any($2) then null else coalesce(vanished_at, $3) end
     where connection_id = $1 and (vanished_at is null) <> (remote_id = any($2))`,
    [id, remoteIds, now],
  );
