import { randomBytes } from "node:crypto";
import type { Holder } from "../cutting/windows";
import { IdNumbers } from "../packs/id-numbers";
import { PackBuilder, type PackHolds } from "../packs/pack";
import { type Press, thePress } from "../press/press";
import { Identifier } from "../seal/identity";
import type { StoreKeys } from "../seal/keys";
import { OBJECT_ID_BYTES } from "../seal/sealing";

/** Where a writer's packs go, and what is there already. */
export interface Sink {
  /** For each id, in order, whether a chunk of that id is stored. */
  known(ids: readonly Uint8Array[]): Promise<boolean[]>;
  /** Stores a complete pack. */
  putPack(packId: Buffer, parts: readonly Uint8Array[], holds: PackHolds): Promise<void>;
}

export type Compression = "none" | "fast" | "strong";
const ZSTD_LEVEL: Record<Exclude<Compression, "none">, number> = { fast: 1, strong: 9 };

const BLOCK_BYTES = 1024 * 1024;
/** Of files of a few bytes a block is full with so many: what is kept of each takes more than they do. */
const BLOCK_CHUNKS = 16_384;
export const PACK_BYTES = 16 * 1024 * 1024;
/** And a pack with so many: its directory is read before anything in it. */
const PACK_CHUNKS = 65_536;
const BATCH_CHUNKS = 1024;
const BATCH_BYTES = 8 * 1024 * 1024;
/** One pack may wait while another one is put. */
const PUT_AT_ONCE = 1;
const IN_FLIGHT_BYTES = 20 * 1024 * 1024;

type ChunkKind = "data" | "tree";
interface Pending {
  readonly kind: ChunkKind;
  readonly id: Buffer;
  readonly bytes: Uint8Array;
  readonly holder: Holder | undefined;
}

export interface WriterFigures {
  /** Chunks that were not there before, and their lengths before and after compression and sealing. */
  newChunks: number;
  newBytes: number;
  storedBytes: number;
  packs: number;
}

const SEEN_AT_ONCE = 262_144;

/**
 * The ids that were added lately: the last quarter of a million at least, which is more than what packs under way can hold. Of
 * what came before, the sink knows whether it is stored.
 */
class LatelySeen {
  private recent = new IdNumbers();
  private older = new IdNumbers();

  isNew(id: Uint8Array): boolean {
    if (this.older.find(id) >= 0) return false;
    const { count } = this.recent;
    this.recent.add(id);
    if (this.recent.count === count) return false;
    if (count + 1 === SEEN_AT_ONCE) {
      this.older = this.recent;
      this.recent = new IdNumbers();
    }
    return true;
  }
}

/**
 * Takes chunks, stores those that are not there yet. Adding returns at once; asking what is known, compressing, sealing
 * and putting go on meanwhile, in order to overlap with reading. An error of the sink comes out of the next `room` or
 * `close`.
 */
export class StoreWriter {
  readonly figures: WriterFigures = { newChunks: 0, newBytes: 0, storedBytes: 0, packs: 0 };
  private readonly seen = new LatelySeen();
  private batch: Pending[] = [];
  private batchBytes = 0;
  private inFlight = 0;
  private gathering: Record<ChunkKind, Pending[]> = { data: [], tree: [] };
  private gatheredBytes: Record<ChunkKind, number> = { data: 0, tree: 0 };
  private pack: PackBuilder | null = null;
  /** Batches pass one after another, so that blocks keep the order of reading. */
  private batches: Promise<void> = Promise.resolve();
  private readonly compressing = new Set<Promise<void>>();
  private readonly putting = new Set<Promise<void>>();
  private failure: unknown = null;
  private rejectFailed: (error: unknown) => void = () => {};
  /** Rejects when something went wrong; never resolves. */
  readonly failed: Promise<never> = new Promise((_, reject) => {
    this.rejectFailed = reject;
  });
  private readonly identifiers: Record<ChunkKind, Identifier>;
  private readonly press: Press = thePress();

  constructor(
    private readonly keys: StoreKeys,
    private readonly sink: Sink,
    private readonly compression: Compression = "fast",
  ) {
    this.failed.catch(() => {});
    this.identifiers = { data: new Identifier(keys.chunkId), tree: new Identifier(keys.treeId) };
  }

  /**
   * Adds one chunk of content or one tree node; returns its id. The bytes must stay as they are until the holder is
   * released, or without one until `close`.
   */
  add(kind: ChunkKind, bytes: Uint8Array, holder?: Holder): Buffer {
    const id = this.identifiers[kind].id(bytes);
    this.addNamed(kind, id, bytes, holder);
    return id;
  }

  /** The same of what has its id already: the keyed hash of just these bytes. */
  addNamed(kind: ChunkKind, id: Buffer, bytes: Uint8Array, holder?: Holder): void {
    if (!this.seen.isNew(id)) return;
    holder?.hold();
    this.batch.push({ kind, id, bytes, holder });
    this.batchBytes += bytes.length;
    this.inFlight += bytes.length;
    if (this.batch.length >= BATCH_CHUNKS || this.batchBytes >= BATCH_BYTES) this.sendBatch();
  }

  /** True when reading should wait: call `room` then. */
  get crowded(): boolean {
    return this.inFlight > IN_FLIGHT_BYTES || this.failure !== null;
  }

  /** Resolves when there is room for more. Throws what went wrong meanwhile. */
  async room(): Promise<void> {
    while (this.inFlight > IN_FLIGHT_BYTES && this.failure === null) {
      await Promise.race([
        this.batches,
        ...this.compressing,
        ...this.putting,
        new Promise<void>((next) => setTimeout(next, 2)),
      ]);
    }
    this.throwFailure();
  }

  /** Sends on what was gathered so far, so that holders are released without more being added. */
  async drain(): Promise<void> {
    this.sendBatch();
    await this.batches;
    this.closeBlock("data");
    this.throwFailure();
  }

  /** Resolves when all content that was added is packed, and its holders are released. */
  async flush(): Promise<void> {
    await this.drain();
    await this.settle(this.compressing);
    this.throwFailure();
  }

  /** Stores all that is left. Afterwards everything that was added can be read. */
  async close(): Promise<WriterFigures> {
    this.sendBatch();
    await this.batches;
    this.closeBlock("data");
    this.closeBlock("tree");
    await this.settle(this.compressing);
    this.closePack();
    await this.settle(this.putting);
    this.throwFailure();
    return this.figures;
  }

  private async settle(work: Set<Promise<void>>): Promise<void> {
    while (work.size) await Promise.all(work);
  }

  private throwFailure(): void {
    if (this.failure !== null) throw this.failure;
  }

  private readonly fail = (error: unknown): void => {
    this.failure ??= error;
    this.rejectFailed(error);
  };

  private sendBatch(): void {
    const batch = this.batch;
    if (batch.length === 0) return;
    this.batch = [];
    this.batchBytes = 0;
    const known = this.sink.known(batch.map((chunk) => chunk.id));
    known.catch(() => {});
    this.batches = this.batches
      .then(async () => {
        if (this.failure !== null) return;
        const there = await known;
        for (let i = 0; i < batch.length; i += 1) {
          const chunk = batch[i]!;
          if (there[i]) {
            this.inFlight -= chunk.bytes.length;
            chunk.holder?.release();
          } else await this.gather(chunk);
        }
      })
      .catch(this.fail);
  }

  private async gather(chunk: Pending): Promise<void> {
    this.figures.newChunks += 1;
    this.figures.newBytes += chunk.bytes.length;
    this.gathering[chunk.kind].push(chunk);
    this.gatheredBytes[chunk.kind] += chunk.bytes.length;
    if (this.gatheredBytes[chunk.kind] < BLOCK_BYTES && this.gathering[chunk.kind].length < BLOCK_CHUNKS)
      return;
    this.closeBlock(chunk.kind);
    // no block is begun while packs pile up before a place that is slow
    while (this.compressing.size >= this.press.width || this.putting.size > PUT_AT_ONCE)
      await Promise.race([...this.compressing, ...this.putting]);
  }

  private closeBlock(kind: ChunkKind): void {
    const chunks = this.gathering[kind];
    if (chunks.length === 0) return;
    this.gathering[kind] = [];
    this.gatheredBytes[kind] = 0;
    const work = this.pressBlock(chunks).catch(this.fail);
    this.compressing.add(work);
    void work.finally(() => this.compressing.delete(work));
  }

  private async pressBlock(chunks: readonly Pending[]): Promise<void> {
    this.pack ??= new PackBuilder(this.keys, randomBytes(OBJECT_ID_BYTES));
    const { pack } = this;
    const place = pack.reserve();
    const lengths = chunks.map((chunk) => chunk.bytes.length);
    const block = await this.press.press({
      parts: chunks.map((chunk) => chunk.bytes),
      level: this.compression === "none" ? null : ZSTD_LEVEL[this.compression],
      key: pack.key,
      header: pack.header,
      place,
      memory: pack.memory,
    });
    pack.fill(
      place,
      block,
      chunks.map((chunk) => chunk.id),
      lengths,
    );
    this.inFlight -= lengths.reduce((sum, length) => sum + length, 0);
    for (const chunk of chunks) chunk.holder?.release();
    const isFull = pack.size >= PACK_BYTES || pack.ids.length >= PACK_CHUNKS;
    if (isFull && this.pack === pack) this.pack = null;
    if (this.pack !== pack && pack.pending === 0) this.putPack(pack);
  }

  private closePack(): void {
    const { pack } = this;
    this.pack = null;
    if (pack) this.putPack(pack);
  }

  private putPack(pack: PackBuilder): void {
    if (this.failure !== null) return;
    const bytes = pack.finish();
    this.figures.packs += 1;
    this.figures.storedBytes += pack.size;
    const work = this.sink
      .putPack(pack.id, [bytes], pack)
      .then(() => pack.release())
      .catch(this.fail);
    this.putting.add(work);
    void work.finally(() => this.putting.delete(work));
  }
}
