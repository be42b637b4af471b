import type { ClientId, PersonId, SourceId } from "@/core/ids";
import { all, change, one, type Tx } from "../base/scope";

/** A recovery point, or a folder of it, that is open as a WebDAV address. */
export interface Viewing {
  readonly id: string;
  readonly clientId: ClientId;
  readonly sourceId: SourceId;
  readonly sourceName: string;
  readonly pointId: Buffer;
  readonly moment: Date;
  /** Of its client. */
  readonly zone: string;
  /** Bytes as latin1 characters; `/` is all of it. */
  readonly path: string;
  readonly madeBy: string;
  readonly madeAt: Date;
  readonly expiresAt: Date;
}
/** Somebody whom a viewing was opened for. */
export interface ViewingKey {
  readonly viewingId: string;
  readonly userName: string;
  readonly personId: PersonId;
  readonly personName: string;
  readonly seenAt: Date | null;
  readonly filesRead: number;
  readonly bytesRead: number;
}

const VIEWING = `v.id, v.client_id as "clientId", v.source_id as "sourceId", s.name as "sourceName", v.point_id as "pointId", p.moment, c.zone, v.path,
  v.made_by as "madeBy", v.made_at as "madeAt", v.expires_at as "expiresAt"`;
const FROM =
  "viewings v join sources s on s.id = v.source_id join points p on p.id = v.point_id join clients c on c.id = v.client_id";
type Row = Omit<Viewing, "path"> & { readonly path: Buffer };
const read = (row: Row): Viewing => ({ ...row, path: row.path.toString("latin1") });

export const insertViewing = (
  tx: Tx,
  viewing: Pick<
    Viewing,
    "id" | "clientId" | "sourceId" | "pointId" | "path" | "madeBy" | "madeAt" | "expiresAt"
  >,
) =>
  change(
    tx,
    `insert into viewings (id, client_id, source_id, point_id, path, made_by, made_at, expires_at)
     values ($1, $2, $3, $4, $5, $6, $7, $8)`,
    [
      viewing.id,
      viewing.clientId,
      viewing.sourceId,
      viewing.pointId,
      Buffer.from(viewing.path, "latin1"),
      viewing.madeBy,
      viewing.madeAt,
      viewing.expiresAt,
    ],
  );
export const insertViewingKey = (
  tx: Tx,
  key: Pick<ViewingKey, "viewingId" | "userName" | "personId"> & {
    readonly clientId: ClientId;
    readonly secretHash: Buffer;
  },
) =>
  change(
    tx,
    "insert into viewing_keys (user_name, viewing_id, client_id, person_id, secret_hash) values ($1, $2, $3, $4, $5)",
    [key.userName, key.viewingId, key.clientId, key.personId, key.secretHash],
  );

/** Viewings that are open, the newest first. */
export const openViewings = async (tx: Tx, clientId: ClientId | null, now: Date) =>
  (
    await all<Row>(
      tx,
      `select ${VIEWING} from ${FROM} where ($1::uuid is null or v.client_id = $1) and v.ended_at is null and v.expires_at > $2
       order by v.made_at desc`,
      [clientId, now],
    )
  ).map(read);
const KEY = `k.viewing_id as "viewingId", k.user_name as "userName", k.person_id as "personId", pe.name as "personName", k.seen_at as "seenAt",
  k.files_read as "filesRead", k.bytes_read as "bytesRead"`;
export const keysOfViewings = (tx: Tx, viewingIds: readonly string[]) =>
  all<ViewingKey>(
    tx,
    `select ${KEY} from viewing_keys k join people pe on pe.id = k.person_id where k.viewing_id = any($1) order by pe.name`,
    [viewingIds],
  );
export const closeViewing = async (tx: Tx, id: string, by: string, now: Date) => {
  const closed = await one<{ id: string }>(
    tx,
    "update viewings set ended_at = $3, ended_by = $2 where id = $1 and ended_at is null and expires_at > $3 returning id",
    [id, by, now],
  );
  if (!closed) return null;
  return read((await one<Row>(tx, `select ${VIEWING} from ${FROM} where v.id = $1`, [id]))!);
};

/** A viewing as somebody opened it: their name and password fit, it is open, and their account is too. */
export interface OpenedViewing extends Viewing {
  readonly userName: string;
  readonly personName: string;
  /** Whether this is the first time that they come. */
  readonly first: boolean;
}
export const viewingFor = async (
  tx: Tx,
  viewingId: string,
  userName: string,
  secretHash: Buffer,
  now: Date,
): Promise<OpenedViewing | null> => {
  const row = await one<Row & Pick<OpenedViewing, "userName" | "personName" | "first">>(
    tx,
    `select ${VIEWING}, k.user_name as "userName", pe.name as "personName", k.seen_at is null as first
     from viewing_keys k join viewings v on v.id = k.viewing_id join sources s on s.id = v.source_id join points p on p.id = v.point_id
     join clients c on c.id = v.client_id join people pe on pe.id = k.person_id
     where v.id = $1 and k.user_name = $2 and k.secret_hash = $3 and v.ended_at is null and v.expires_at > $4
       and pe.closed_at is null and p.purged_at is null
       -- rights of now, not of when it was opened: the client's own people, and those of the provider who may look inside
       and (pe.client_id = v.client_id or (pe.client_id is null and pe.role in ('owner', 'technician')
         and (not exists (select from people_clients pc where pc.person_id = pe.id)
           or exists (select from people_clients pc where pc.person_id = pe.id and pc.client_id = v.client_id))))`,
    [viewingId, userName, secretHash, now],
  );
  return row && { ...row, path: row.path.toString("latin1") };
};
export const noteViewed = (tx: Tx, userName: string, files: number, bytes: number, now: Date) =>
  change(
    tx,
    "update viewing_keys set seen_at = $4, files_read = files_read + $2, bytes_read = bytes_read + $3 where user_name = $1",
    [userName, files, bytes, now],
  );
