import type { ClientId, SourceId } from "@/core/ids";
import type { Tx } from "@/db/base/scope";
import { keysOfViewings, openViewings } from "@/db/portal/viewings";
import { showBytes } from "@/store/tree/tree";
import { clockText } from "@/ui/parts/moment";
import type { ShownViewing } from "@/ui/restore/viewings";

/** The open viewings of a client, or of all, or of one source, in words. */
export async function shownViewings(
  tx: Tx,
  filter: { readonly clientId?: ClientId | null; readonly sourceId?: SourceId | null },
  zone: string,
  now: Date,
): Promise<ShownViewing[]> {
  const open = (await openViewings(tx, filter.clientId ?? null, now)).filter(
    (viewing) => !filter.sourceId || viewing.sourceId === filter.sourceId,
  );
  const keys = await keysOfViewings(
    tx,
    open.map((viewing) => viewing.id),
  );
  return open.map((viewing) => ({
    id: viewing.id,
    of: `${filter.sourceId ? "" : `${viewing.sourceName}, `}${clockText(viewing.moment, zone)}, ${showBytes(viewing.path)}`,
    madeBy: viewing.madeBy,
    until: clockText(viewing.expiresAt, zone),
    people: keys
      .filter((key) => key.viewingId === viewing.id)
      .map((key) => ({
        name: key.personName,
        files: key.filesRead,
        bytes: key.bytesRead,
        seen: key.seenAt !== null,
      })),
  }));
}
