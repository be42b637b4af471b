import type { ClientId } from "@/core/ids";
import { all, change, one, type Tx } from "../base/scope";

/** A cause that somebody set aside until a moment. */
export interface SetAside {
  readonly key: string;
  readonly clientId: ClientId | null;
  readonly title: string;
  readonly until: Date;
  readonly note: string;
  readonly setBy: string;
  readonly setAt: Date;
}

/** Causes that are set aside now. */
export const setAsides = (tx: Tx, now: Date) =>
  all<SetAside>(
    tx,
    `select key, client_id as "clientId", title, until, note, set_by as "setBy", set_at as "setAt" from set_asides where until > $1`,
    [now],
  );
export const setAside = (tx: Tx, one: SetAside) =>
  change(
    tx,
    `insert into set_asides (key, client_id, title, until, note, set_by, set_at) values ($1, $2, $3, $4, $5, $6, $7)
     on conflict (key) do update set title = excluded.title, until = excluded.until, note = excluded.note, set_by = excluded.set_by, set_at = excluded.set_at`,
    [one.key, one.clientId, one.title, one.until, one.note, one.setBy, one.setAt],
  );
export const resumeCause = (tx: Tx, key: string) =>
  change(tx, "delete from set_asides where key = $1", [key]);

/** What one shift left for the next. */
export interface Handover {
  readonly id: string;
  readonly writtenAt: Date;
  readonly writtenBy: string;
  readonly text: string;
}
export const newestHandover = (tx: Tx) =>
  one<Handover>(
    tx,
    `select id, written_at as "writtenAt", written_by as "writtenBy", text from handovers order by written_at desc limit 1`,
  );
export const insertHandover = (tx: Tx, handover: Handover) =>
  change(tx, "insert into handovers (id, written_at, written_by, text) values ($1, $2, $3, $4)", [
    handover.id,
    handover.writtenAt,
    handover.writtenBy,
    handover.text,
  ]);
