import type { ClientId, PersonId } from "@/core/ids";
import { change, one, type Tx } from "../base/scope";

/** Baskets that were prepared for a download, for an hour. */

export const deleteOldArchives = (tx: Tx, before: Date) =>
  change(tx, "delete from archives where created_at < $1", [before]);
export const insertArchive = (
  tx: Tx,
  archive: {
    readonly id: string;
    readonly clientId: ClientId;
    readonly personId: PersonId;
    readonly request: object;
  },
  now: Date,
) =>
  change(
    tx,
    "insert into archives (id, client_id, person_id, request, created_at) values ($1, $2, $3, $4, $5)",
    [archive.id, archive.clientId, archive.personId, JSON.stringify(archive.request), now],
  );
/** One that was prepared or used since; `request` as it was written. */
export const archiveById = (tx: Tx, id: string, since: Date) =>
  one<{ request: unknown; personId: PersonId; length: number | null }>(
    tx,
    `select request, person_id as "personId", length from archives where id = $1 and created_at > $2`,
    [id, since],
  );
/** Notes that one is used now, and how long it is where that is known. */
export const useArchive = (tx: Tx, id: string, length: number | null, now: Date) =>
  change(tx, "update archives set created_at = $2, length = $3 where id = $1", [id, now, length]);
