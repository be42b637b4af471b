import { randomBytes } from "node:crypto";
import zstd from "@mongodb-js/zstd";
import { Identifier } from "./identity";
import type { StoreKeys } from "./keys";
import { PackBuilder } from "./pack";
import { OBJECT_ID_BYTES } from "./sealing";
import type { ByteString } from "./tree";

/** Where a writer's packs go, and what is there already. */
export interface Sink {
  /** For each id, in order, whether a chunk of that id is stored. */
  known(ids: readonly Uint8Array[]): Promise<boolean[]>;
  /** Stores a complete pack; `ids` are the chunks in it. */
  putPack(packId: Buffer, parts: readonly Uint8Array[], ids: readonly Uint8Array[]): Promise<void>;
}

export type Compression = "none" | "fast" | "strong";
const ZSTD_LEVEL: Record<Exclude<Compression, "none">, number> = { fast: 1, strong: 9 };

const BLOCK_BYTES = 1024 * 1024;
const PACK_BYTES = 16 * 1024 * 1024;
const BATCH_CHUNKS = 1024;
const BATCH_BYTES = 8 * 1024 * 1024;
const IN_FLIGHT_BYTES = 24 * 1024 * 1024;
const BLOCKS_AT_ONCE = 4;

type ChunkKind = "data" | "tree";
interface Pending {
  readonly kind: ChunkKind;
  readonly id: Buffer;
  readonly bytes: Uint8Array;
}

/** An id as a string of bytes: the key of maps and sets. */
export const idKey = (id: Uint8Array): ByteString =>
  Buffer.from(id.buffer, id.byteOffset, id.byteLength).toString("latin1");

export interface WriterFigures {
  /** Chunks that were not there before, and their lengths before and after compression and sealing. */
  newChunks: number;
  newBytes: number;
  storedBytes: number;
  packs: number;
}

/**
 * Takes chunks, stores those that are not there yet. Adding returns at once; asking what is known, compressing, sealing
 * and putting go on meanwhile, in order to overlap with reading. An error of the sink comes out of the next `room` or
 * `close`.
 */
export class StoreWriter {
  readonly figures: WriterFigures = { newChunks: 0, newBytes: 0, storedBytes: 0, packs: 0 };
  private readonly seen = new Set<ByteString>();
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
  private readonly identifiers: Record<ChunkKind, Identifier>;

  constructor(
    private readonly keys: StoreKeys,
    private readonly sink: Sink,
    private readonly compression: Compression = "fast",
  ) {
    this.identifiers = { data: new Identifier(keys.chunkId), tree: new Identifier(keys.treeId) };
  }

  /** Adds one chunk of content or one tree node; returns its id. The bytes must stay as they are until `close`. */
  add(kind: ChunkKind, bytes: Uint8Array): Buffer {
    const id = this.identifiers[kind].id(bytes);
    const key = idKey(id);
    if (this.seen.has(key)) return id;
    this.seen.add(key);
    this.batch.push({ kind, id, bytes });
    this.batchBytes += bytes.length;
    this.inFlight += bytes.length;
    if (this.batch.length >= BATCH_CHUNKS || this.batchBytes >= BATCH_BYTES) this.sendBatch();
    return id;
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
          if (there[i]) this.inFlight -= chunk.bytes.length;
          else await this.gather(chunk);
        }
      })
      .catch(this.fail);
  }

  private async gather(chunk: Pending): Promise<void> {
    this.figures.newChunks += 1;
    this.figures.newBytes += chunk.bytes.length;
    this.gathering[chunk.kind].push(chunk);
    this.gatheredBytes[chunk.kind] += chunk.bytes.length;
    if (this.gatheredBytes[chunk.kind] < BLOCK_BYTES) return;
    this.closeBlock(chunk.kind);
    while (this.compressing.size >= BLOCKS_AT_ONCE) await Promise.race(this.compressing);
  }

  private closeBlock(kind: ChunkKind): void {
    const chunks = this.gathering[kind];
    if (chunks.length === 0) return;
    this.gathering[kind] = [];
    this.gatheredBytes[kind] = 0;
    const raw =
      chunks.length === 1 ? (chunks[0]!.bytes as Buffer) : Buffer.concat(chunks.map((chunk) => chunk.bytes));
    const work = this.compressBlock(raw, chunks).catch(this.fail);
    this.compressing.add(work);
    void work.finally(() => this.compressing.delete(work));
  }

  private async compressBlock(raw: Buffer, chunks: readonly Pending[]): Promise<void> {
    const small = this.compression === "none" ? raw : await zstd.compress(raw, ZSTD_LEVEL[this.compression]);
    const shrinks = small.length < raw.length;
    if (this.failure !== null) return;
    this.pack ??= new PackBuilder(this.keys, randomBytes(OBJECT_ID_BYTES));
    this.pack.addBlock(
      shrinks ? small : raw,
      shrinks,
      chunks.map((chunk) => chunk.id),
      chunks.map((chunk) => chunk.bytes.length),
    );
    this.inFlight -= raw.length;
    if (this.pack.size < PACK_BYTES) return;
    this.closePack();
    while (this.putting.size > 1) await Promise.race(this.putting);
  }

  private closePack(): void {
    const pack = this.pack;
    if (!pack) return;
    this.pack = null;
    const parts = pack.finish();
    this.figures.packs += 1;
    this.figures.storedBytes += pack.size;
    const work = this.sink.putPack(pack.id, parts, pack.ids).catch(this.fail);
    this.putting.add(work);
    void work.finally(() => this.putting.delete(work));
  }
}
