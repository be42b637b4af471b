import { fileBytes } from "@/store/read/browse";
import type { ChunkReader } from "@/store/read/reader";
import type { ByteString, Entry } from "@/store/tree/tree";

/** What restores of messages and of calendar entries share. */

/** After a broken call the server is asked again so often whether the item has arrived. */
export const LOST_ATTEMPTS = 4;

/** An item of a recovery point that is to be restored. */
export interface Planned {
  readonly path: ByteString;
  readonly entry: Entry;
  readonly store: ChunkReader;
}

/** What was done so far; see RestoreResult. */
export interface Tally {
  files: number;
  folders: number;
  bytes: number;
  present: number;
  cautions: number;
}

export async function bytesOfItem(store: ChunkReader, entry: Entry): Promise<Buffer<ArrayBuffer>> {
  const parts: Buffer[] = [];
  for await (const part of fileBytes(store, entry, 0, entry.size ?? 0)) parts.push(part);
  return Buffer.concat(parts);
}
