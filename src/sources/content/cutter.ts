import { SPREAD_BYTES } from "@/store/cutting/spread";
import { WINDOW_BYTES, type WindowMemory } from "@/store/cutting/windows";
import type { Identifier } from "@/store/seal/identity";
import type { ByteString } from "@/store/tree/tree";
import { CHUNK_MAX } from "@/store/write/chunker";
import { putBytes } from "@/store/write/copy";
import type { OpenFile } from "../reader";
import { looksRandom } from "./random";

/** What was read of a file beside its chunks. */
export interface ContentFacts {
  /** Length in bytes, holes included. */
  readonly size: number;
  /** Ranges that have data, where it has holes. */
  readonly extents: readonly (readonly [offset: number, length: number])[] | null;
  readonly xattrs: readonly (readonly [ByteString, Uint8Array])[];
  /** Its first bytes look random. */
  readonly dense: boolean;
  /** It ended before the length that it had when it was opened. */
  readonly short: boolean;
  /** It was written to since it was opened. */
  readonly changed: boolean;
}

/** Hears of each chunk: its id, and where it lies. */
export type ChunkFound = (id: Buffer, window: number, start: number, length: number) => void;

/** A long file begins in the window at hand when it has at least this much room. */
const ROOM_TO_BEGIN = 1024 * 1024;
/** So little at a time that it is still in the processor's cache when it is searched and named. */
const READ_AT_ONCE = 512 * 1024;
const NONE = -1;

interface UnderWay {
  readonly file: OpenFile;
  readonly ranges: readonly (readonly [number, number])[];
  /** Which range, how much of it was read, and whether it has begun in a window. */
  range: number;
  total: number;
  /** Bytes of the range before. */
  read: number;
  begun: boolean;
  readonly extents: [number, number][];
  dense: boolean;
  short: boolean;
}

/** Reads files into windows, one after another, finds their chunks there and names them. */
export class ContentCutter {
  private underWay: UnderWay | null = null;
  private window = NONE;
  /** How much of the window is filled, and where what has no end of a chunk yet begins. */
  private used = 0;
  private start = 0;
  /** Up to where there is no end of a chunk. */
  private searched = 0;

  constructor(
    private readonly memory: WindowMemory,
    private readonly identifier: Identifier,
    private readonly found: ChunkFound,
  ) {}

  /** Begins a file; go on until it is done. It is closed by whoever opened it. */
  begin(file: OpenFile): void {
    const ranges = file.extents ?? [[0, file.size]];
    this.underWay = {
      file,
      ranges,
      range: 0,
      total: 0,
      read: 0,
      begun: false,
      extents: [],
      dense: false,
      short: false,
    };
  }

  /** What the file at hand waits for, where it is a stream; null: for nothing. */
  pending(): Promise<void> | null {
    const one = this.underWay;
    const length = one?.ranges[one.range]?.[1] ?? 0;
    return one?.file.pending?.(Math.min(READ_AT_ONCE, length - one.total)) ?? null;
  }

  /** Reads on. Null: another window is wanted, unless the file is `pending`; `moveTo` it, then go on. */
  goOn(): ContentFacts | null {
    const one = this.underWay!;
    while (one.range < one.ranges.length && !one.short) {
      const [offset, length] = one.ranges[one.range]!;
      if (length > 0 && !this.readRange(one, offset, length)) return null;
      one.extents.push([offset, one.total]);
      one.short = one.total < length && !one.file.pending;
      one.read = one.total;
      one.range += 1;
      one.total = 0;
      one.begun = false;
    }
    this.underWay = null;
    const { file, extents, dense, short } = one;
    const end = extents.at(-1);
    return {
      size: file.pending ? one.read : short && end ? end[0] + end[1] : file.size,
      extents: file.extents ? extents : null,
      xattrs: file.xattrs(),
      dense,
      short,
      changed: file.changed(),
    };
  }

  /** Takes the next window; what has no end of a chunk yet goes along. Returns the one that is left, -1 for none. */
  moveTo(window: number): number {
    const left = this.window;
    const rest = this.underWay?.begun ? this.used - this.start : 0;
    if (rest > 0)
      putBytes(this.memory.bytes(window), 0, this.memory.bytes(left).subarray(this.start, this.start + rest));
    this.window = window;
    this.start = 0;
    this.searched = rest;
    this.used = rest;
    return left;
  }

  /** Gives up the file at hand, as when it cannot be read on. */
  giveUp(): void {
    this.underWay = null;
  }

  /** Until the range is read (true) or the window full. */
  private readRange(one: UnderWay, offset: number, length: number): boolean {
    if (!one.begun) {
      if (this.window === NONE || WINDOW_BYTES - this.used < Math.min(length, ROOM_TO_BEGIN)) return false;
      one.begun = true;
      this.start = this.used;
      this.searched = this.used;
    }
    const bytes = this.memory.bytes(this.window);
    let ended = false;
    while (!ended && this.used < WINDOW_BYTES) {
      const wanted = Math.min(READ_AT_ONCE, WINDOW_BYTES - this.used, length - one.total);
      if (one.file.pending?.(wanted)) return false;
      const got = fill(one.file, bytes, this.used, wanted, offset + one.total);
      if (one.total === 0 && one.range === 0)
        one.dense = looksRandom(this.memory.spread(this.window, this.used, got), Math.min(SPREAD_BYTES, got));
      one.total += got;
      this.used += got;
      ended = one.total >= length || got < wanted;
      this.findChunks(bytes, ended);
    }
    return ended;
  }

  /** Finds and names the chunks that end in what was read. */
  private findChunks(bytes: Buffer, ended: boolean): void {
    while (this.used > this.start) {
      const cut = this.memory.cut(this.window, this.start, this.used, this.searched);
      // no end of a chunk in what is here: it may come in what is read next
      if (!ended && cut === this.used - this.start && cut < CHUNK_MAX) break;
      const id = this.identifier.id(bytes.subarray(this.start, this.start + cut));
      this.found(id, this.window, this.start, cut);
      this.start += cut;
      this.searched = this.start;
    }
    this.searched = this.used;
  }
}

function fill(file: OpenFile, into: Buffer, at: number, length: number, position: number): number {
  let filled = 0;
  while (filled < length) {
    const got = file.read(into, at + filled, length - filled, position + filled);
    if (got === 0) break;
    filled += got;
  }
  return filled;
}
