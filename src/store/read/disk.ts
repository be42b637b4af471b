import { LRUCache } from "lru-cache";
import { CodedError } from "@/core/codes";
import { ID_BYTES } from "../seal/identity";
import type { Entry } from "../tree/tree";
import { chunkLists } from "./browse";
import type { ChunkReader } from "./reader";

/** Chunks that were read last stay in memory up to so many bytes. */
const KEPT_BYTES = 128 * 1024 * 1024;

/** A disk of a recovery point, read in any order. Offsets and lengths are bytes. */
export class StoredDisk {
  private readonly kept: LRUCache<number, Promise<Buffer>>;
  /** Bytes that were read from the depot. */
  readBytes = 0;

  private constructor(
    private readonly reader: ChunkReader,
    readonly size: number,
    private readonly chunkBytes: number,
    private readonly ids: Buffer,
    /** Where in the list of ids a chunk is, plus one; 0 where there is nothing. */
    private readonly places: Uint32Array,
    keptBytes: number,
  ) {
    this.kept = new LRUCache({ max: Math.max(2, Math.floor(keptBytes / chunkBytes)) });
  }

  /**
   * Throws `store.damaged` where the entry is no disk.
   *
   * @param keptBytes so much of what was read last stays in memory
   */
  static async open(reader: ChunkReader, entry: Entry, keptBytes = KEPT_BYTES): Promise<StoredDisk> {
    const { size = 0, chunkBytes, extents = [[0, size]] } = entry;
    if (!chunkBytes) throw new CodedError("store.damaged", "an entry that is no disk");
    const lists: Uint8Array[] = [];
    for await (const ids of chunkLists(reader, entry)) lists.push(...ids);
    const places = new Uint32Array(Math.ceil(size / chunkBytes));
    let place = 0;
    for (const [offset, length] of extents) {
      if (offset % chunkBytes !== 0)
        throw new CodedError("store.damaged", "a disk with extents inside of chunks");
      for (let number = offset / chunkBytes; number < (offset + length) / chunkBytes; number += 1) {
        place += 1;
        places[number] = place;
      }
    }
    if (place !== lists.length)
      throw new CodedError("store.damaged", "a disk with chunks missing from its list");
    return new StoredDisk(reader, size, chunkBytes, Buffer.concat(lists), places, keptBytes);
  }

  /** Bytes of the disk that something is stored for. */
  get storedBytes(): number {
    const { size, chunkBytes, places } = this;
    const last = places.at(-1) ? places.length * chunkBytes - size : 0;
    return (this.ids.length / ID_BYTES) * chunkBytes - last;
  }

  /** Whether anything is stored at an offset, and for how many bytes from there on that holds. */
  stretch(offset: number, length: number): { readonly stored: boolean; readonly length: number } {
    const { chunkBytes, places } = this;
    let number = Math.floor(offset / chunkBytes);
    const stored = places[number] !== 0;
    const end = Math.min(offset + length, this.size);
    while ((number + 1) * chunkBytes < end && (places[number + 1] !== 0) === stored) number += 1;
    return { stored, length: Math.min(end, (number + 1) * chunkBytes) - offset };
  }

  /** The bytes may be those that are kept: they are read only. */
  async read(offset: number, length: number): Promise<Buffer> {
    const { chunkBytes } = this;
    const first = Math.floor(offset / chunkBytes);
    const last = Math.floor((offset + length - 1) / chunkBytes);
    if (first === last) {
      const chunk = await this.chunk(first);
      const from = offset - first * chunkBytes;
      return chunk ? chunk.subarray(from, from + length) : Buffer.alloc(length);
    }
    const into = Buffer.allocUnsafe(length);
    const parts = Array.from({ length: last - first + 1 }, (_, i) => this.chunk(first + i));
    for (const [i, part] of parts.entries()) {
      const start = (first + i) * chunkBytes;
      const from = Math.max(offset, start);
      const to = Math.min(offset + length, start + chunkBytes);
      const chunk = await part;
      if (chunk) chunk.copy(into, from - offset, from - start, to - start);
      else into.fill(0, from - offset, to - offset);
    }
    return into;
  }

  private chunk(number: number): Promise<Buffer> | null {
    const place = this.places[number]!;
    if (place === 0) return null;
    const kept = this.kept.get(number);
    if (kept) return kept;
    const id = this.ids.subarray((place - 1) * ID_BYTES, place * ID_BYTES);
    const read = this.reader.chunk(id).then((bytes) => {
      const whole = Math.min(this.chunkBytes, this.size - number * this.chunkBytes);
      if (bytes.length !== whole)
        throw new CodedError("store.damaged", "a chunk of a disk with another length");
      this.readBytes += whole;
      // a block holds other chunks too
      return Buffer.from(bytes);
    });
    this.kept.set(number, read);
    read.catch(() => {
      // what could not be read once may be read the next time
      if (this.kept.peek(number) === read) this.kept.delete(number);
    });
    return read;
  }
}
