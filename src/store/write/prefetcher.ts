import { chunkLists, walkRuns } from "../read/browse";
import { type ChunkReader, WALKED_AHEAD } from "../read/reader";
import { ID_BYTES } from "../seal/identity";
import type { Entry } from "../tree/tree";

/** So many chunks are located with one question. */
const LOCATED_AT_ONCE = 64;

/**
 * Walks a tree ahead of whoever reads the content of all that is in it, and tells the store what is read soon: that is
 * fetched and opened while what is here is written. Whatever goes wrong for it is left to the reader to find.
 */
export class Prefetcher {
  private seen = 0;
  private passed = 0;
  private stopped = false;
  private goOn: (() => void) | null = null;
  /** Chunks that the store was not told of yet, and the numbers of their entries. */
  private chunks: { readonly id: Uint8Array; readonly entry: number }[] = [];

  constructor(
    private readonly reader: ChunkReader,
    node: Uint8Array,
  ) {
    this.walk(node).catch(() => {});
  }

  /** The reader comes to the next entry, in the order of `walkTree`. */
  pass(): void {
    this.passed += 1;
    if (this.goOn && this.seen - this.passed < WALKED_AHEAD / 2) {
      this.goOn();
      this.goOn = null;
    }
  }

  stop(): void {
    this.stopped = true;
    this.goOn?.();
  }

  private async walk(node: Uint8Array): Promise<void> {
    for await (const { entries, from, to } of walkRuns(this.reader, node, "/"))
      for (let i = from; i < to; i += 1) {
        const entry = entries[i]!;
        this.seen += 1;
        if (entry.type === "file") {
          // most files are one chunk, and they are many: nothing is waited for then
          if (entry.chunks?.length === ID_BYTES) this.chunks.push({ id: entry.chunks, entry: this.seen });
          else await this.file(entry);
        }
        if (this.chunks.length >= LOCATED_AT_ONCE) await this.tell();
        if (this.seen - this.passed >= WALKED_AHEAD) {
          await this.tell();
          await new Promise<void>((resolve) => {
            this.goOn = resolve;
          });
        }
        if (this.stopped) return;
      }
    await this.tell();
  }

  private async file(entry: Entry): Promise<void> {
    for await (const ids of chunkLists(this.reader, entry))
      for (const id of ids) {
        this.chunks.push({ id, entry: this.seen });
        if (this.chunks.length >= LOCATED_AT_ONCE) await this.tell();
        if (this.stopped) return;
      }
  }

  private async tell(): Promise<void> {
    const { chunks } = this;
    this.chunks = [];
    await this.reader.locate(chunks.map(({ id }) => id));
    for (const { id, entry } of chunks) {
      if (this.stopped) return;
      // what lies behind the reader is not read any more
      const waits = entry >= this.passed ? this.reader.soon(id) : null;
      if (waits) await waits;
    }
  }
}
