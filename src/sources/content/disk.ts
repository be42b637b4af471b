import type { Windows } from "@/store/cutting/windows";
import { ID_BYTES, Identifier } from "@/store/seal/identity";
import { decodeNode, type Entry } from "@/store/tree/tree";
import { CHUNK_MAX } from "@/store/write/chunker";
import type { StoreWriter } from "@/store/write/writer";
import type { OpenDisk } from "../reader";

/** The smallest chunks of disks, and how many of them a disk may have before they are larger. */
const SMALLEST = 256 * 1024;
const MOST_SMALL = 262_144;

/** The size of chunks for a disk of a size, bytes: a power of two, 256 KiB up to 64 GiB, 4 MiB from 512 GiB on. */
export function chunkBytesFor(size: number): number {
  let bytes = SMALLEST;
  while (bytes < CHUNK_MAX && size > bytes * MOST_SMALL) bytes *= 2;
  return bytes;
}

/** A disk as the recovery point before has it. */
export interface DiskBefore {
  readonly size: number;
  readonly chunkBytes: number;
  /** The id of a chunk by its number; null for one that reads as zeros. */
  id(number: number): Uint8Array | null;
}

/**
 * The disk of an entry, with its list of chunks from the tree of the point before; null for a file that is none.
 *
 * @param bytesOf the bytes of a node of that tree
 */
export function diskBefore(entry: Entry, bytesOf: (id: Uint8Array) => Uint8Array): DiskBefore | null {
  const { chunkBytes, size = 0 } = entry;
  if (!chunkBytes) return null;
  const lists: Uint8Array[] = [];
  if (entry.chunks) lists.push(entry.chunks);
  for (let at = 0; entry.chunkPages && at < entry.chunkPages.length; at += ID_BYTES) {
    const node = decodeNode(bytesOf(entry.chunkPages.subarray(at, at + ID_BYTES)));
    if (node.kind !== "chunks") return null;
    lists.push(node.ids);
  }
  const ids = lists.length === 1 ? lists[0]! : Buffer.concat(lists);
  const count = Math.ceil(size / chunkBytes);
  /** Where in the list a chunk is, plus one; 0 for a hole. */
  const places = new Uint32Array(count);
  let place = 0;
  for (const [offset, length] of entry.extents ?? [[0, size]])
    for (let number = offset / chunkBytes; number < Math.ceil((offset + length) / chunkBytes); number += 1) {
      place += 1;
      places[number] = place;
    }
  // a list that does not fit says nothing
  if (place * ID_BYTES !== ids.length) return null;
  return {
    size,
    chunkBytes,
    id: (number) => {
      const at = places[number] ?? 0;
      return at === 0 ? null : ids.subarray((at - 1) * ID_BYTES, at * ID_BYTES);
    },
  };
}

export interface DiskContent {
  readonly size: number;
  readonly chunkBytes: number;
  /** Ids of the chunks that hold something, in order. */
  readonly chunks: Buffer;
  /** Where those lie; null where all do. */
  readonly extents: readonly (readonly [offset: number, length: number])[] | null;
  /** Bytes that were read. */
  readonly read: number;
}

export interface ReadingDisk {
  readonly disk: OpenDisk;
  readonly old: DiskBefore | null;
  /** Reads everything, whatever is said to be unchanged. */
  readonly readAll: boolean;
  readonly writer: StoreWriter;
  readonly windows: Windows;
  /** The key of the ids of chunks. */
  readonly key: Buffer;
  /** So many bytes more of the disk are done, read or not. */
  readonly passed: (bytes: number, read: boolean) => void;
  readonly signal: AbortSignal;
}

/** Stretches of chunks that may differ from those before: the number of the first, and of the one after the last. */
function mayDiffer(
  { disk, old, readAll }: ReadingDisk,
  chunkBytes: number,
): [first: number, after: number][] {
  const count = Math.ceil(disk.size / chunkBytes);
  if (!old || readAll || !disk.changed) return [[0, count]];
  const differs = new Uint8Array(count);
  for (const { offset, length } of disk.changed)
    differs.fill(1, Math.floor(offset / chunkBytes), Math.ceil((offset + length) / chunkBytes));
  // of another length: from the chunk on that it ended in, or ends in now
  if (old.size !== disk.size) differs.fill(1, Math.floor(Math.min(old.size, disk.size) / chunkBytes));
  const stretches: [number, number][] = [];
  for (let first = differs.indexOf(1); first >= 0; ) {
    const end = differs.indexOf(0, first);
    const after = end < 0 ? count : end;
    stretches.push([first, after]);
    first = differs.indexOf(1, after);
  }
  return stretches;
}

/**
 * Reads a disk in chunks of fixed size, as far as it may differ from the point before, and has what is new stored. Zeros and
 * what is not allocated are holes. The chunks of one window are read at once while those of the one before are named.
 */
export async function readDisk(reading: ReadingDisk): Promise<DiskContent> {
  const { disk, old, writer, windows, key, passed, signal } = reading;
  const chunkBytes = old?.chunkBytes ?? chunkBytesFor(disk.size);
  const count = Math.ceil(disk.size / chunkBytes);
  const lengthOf = (number: number) => Math.min(chunkBytes, disk.size - number * chunkBytes);
  const identifier = new Identifier(key);
  const zeros = Buffer.alloc(chunkBytes);
  const ids: (Uint8Array | null)[] = new Array(count).fill(null);
  let read = 0;

  const keep = (from: number, to: number) => {
    for (let number = from; number < to; number += 1) {
      ids[number] = old!.id(number);
      passed(lengthOf(number), false);
    }
  };
  /** Fills a window with chunks; what it returns names them, when they are there. */
  const fill = async (numbers: readonly number[]): Promise<() => void> => {
    let window = windows.take();
    if (!window) {
      const freed = windows.next();
      await writer.drain();
      window = await Promise.race([freed, writer.failed]);
    }
    const { bytes } = window;
    const parts = numbers.map((number, i) =>
      bytes.subarray(i * chunkBytes, i * chunkBytes + lengthOf(number)),
    );
    try {
      await Promise.all(numbers.map((number, i) => disk.readInto(parts[i]!, number * chunkBytes)));
    } catch (error) {
      window.release();
      throw error;
    }
    return () => {
      for (const [i, number] of numbers.entries()) {
        const part = parts[i]!;
        read += part.length;
        passed(part.length, true);
        if (part.equals(part.length === chunkBytes ? zeros : zeros.subarray(0, part.length))) continue;
        const id = identifier.id(part);
        writer.addNamed("data", id, part, window!);
        ids[number] = id;
      }
      window.release();
    };
  };

  let before: Promise<() => void> | null = null;
  const next = async (numbers: readonly number[]): Promise<void> => {
    signal.throwIfAborted();
    if (writer.crowded) await writer.room();
    const filling = fill(numbers);
    filling.catch(() => {});
    const ready = before;
    before = filling;
    if (ready) (await ready)();
  };
  const perWindow = Math.floor(windows.at(0).bytes.length / chunkBytes);
  let waiting: number[] = [];
  let done = 0;
  for (const [first, after] of mayDiffer(reading, chunkBytes)) {
    keep(done, first);
    done = after;
    for await (const number of holding(disk, first, after, chunkBytes, (from, to) => {
      for (let hole = from; hole < to; hole += 1) passed(lengthOf(hole), false);
    })) {
      waiting.push(number);
      if (waiting.length < perWindow) continue;
      await next(waiting);
      waiting = [];
    }
  }
  keep(done, count);
  if (waiting.length > 0) await next(waiting);
  if (before) (await (before as Promise<() => void>))();
  const chunks = ids.filter((id) => id !== null);
  return {
    size: disk.size,
    chunkBytes,
    chunks: Buffer.concat(chunks),
    extents: chunks.length === count ? null : extentsOf(ids, chunkBytes, disk.size),
    read,
  };
}

/** What is asked about at once. */
const ASKED_BYTES = 2 ** 30;

/** Numbers of the chunks of a stretch that may hold something; the others are told as holes. */
async function* holding(
  disk: OpenDisk,
  first: number,
  after: number,
  chunkBytes: number,
  holes: (from: number, to: number) => void,
): AsyncGenerator<number> {
  let number = first;
  const end = Math.min(after * chunkBytes, disk.size);
  for (let at = first * chunkBytes; at < end; at += ASKED_BYTES) {
    const length = Math.min(ASKED_BYTES, end - at);
    for (const range of await disk.allocated(at, length)) {
      const from = Math.max(number, Math.floor(range.offset / chunkBytes));
      const to = Math.ceil((range.offset + range.length) / chunkBytes);
      if (to <= from) continue;
      holes(number, from);
      for (number = from; number < to; number += 1) yield number;
    }
  }
  holes(number, after);
}

function extentsOf(
  ids: readonly (Uint8Array | null)[],
  chunkBytes: number,
  size: number,
): [number, number][] {
  const extents: [number, number][] = [];
  for (const [number, id] of ids.entries()) {
    if (!id) continue;
    const offset = number * chunkBytes;
    const length = Math.min(chunkBytes, size - offset);
    const last = extents.at(-1);
    if (last && last[0] + last[1] === offset) last[1] += length;
    else extents.push([offset, length]);
  }
  return extents;
}
