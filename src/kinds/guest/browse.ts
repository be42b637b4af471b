import { partitionFolder } from "@/disks/files/inside-reader";
import { isRead } from "@/disks/files/open";
import { layoutOf } from "@/disks/partitions";
import { fileBytes, findEntry } from "@/store/read/browse";
import { StoredDisk } from "@/store/read/disk";
import type { ChunkReader } from "@/store/read/reader";
import { byteString } from "@/store/tree/tree";
import { type GuestDescription, guestDescription } from "./host";
import { DEFINITION, DESCRIPTION, diskFile } from "./names";

/** Looking into a recovery point of a guest. */

/** A guest as people look into it: its disks with what is on them. */
export async function insideGuest(reader: ChunkReader, root: Uint8Array) {
  const guest = await guestOf(reader, root);
  if (!guest) return null;
  const disks = [];
  for (const { name, size } of guest.disks) {
    const disk = await diskOf(reader, root, name);
    const { table, partitions } = disk ? await layoutOf(disk) : { table: null, partitions: [] };
    disks.push({
      name,
      size,
      stored: disk?.storedBytes ?? 0,
      table,
      partitions: partitions.map((one) => ({
        ...one,
        files: isRead(one.fileSystem) ? partitionFolder(one) : null,
      })),
    });
  }
  const { name, memory, processors, quiesced, notQuiesced } = guest;
  return { name, memory, processors, quiesced, notQuiesced, disks };
}

async function textOf(reader: ChunkReader, root: Uint8Array, name: string): Promise<string | null> {
  const entry = await findEntry(reader, root, `/${name}`);
  if (entry?.type !== "file") return null;
  const parts: Buffer[] = [];
  for await (const part of fileBytes(reader, entry)) parts.push(Buffer.from(part));
  return Buffer.concat(parts).toString("utf8");
}

/** What is known of the guest; null where the recovery point is not one of a guest. */
export async function guestOf(reader: ChunkReader, root: Uint8Array): Promise<GuestDescription | null> {
  const text = await textOf(reader, root, DESCRIPTION);
  return text === null ? null : guestDescription.parse(JSON.parse(text));
}

export const definitionOf = async (reader: ChunkReader, root: Uint8Array): Promise<string> =>
  (await textOf(reader, root, DEFINITION)) ?? "";

/** A disk by its name; null where there is none. */
export async function diskOf(
  reader: ChunkReader,
  root: Uint8Array,
  name: string,
): Promise<StoredDisk | null> {
  const entry = await findEntry(reader, root, byteString(`/${diskFile(name)}`));
  return entry?.chunkBytes ? StoredDisk.open(reader, entry) : null;
}
