/**
 * Shared memory for blocks and for what they are read from, used again and again: what is made anew for each of them would
 * be collected again soon, and looking for it costs more than opening them.
 */
export class Memories {
  private readonly spare = new Map<number, Buffer[]>();
  private spareBytes = 0;

  /** Memory of at least a length; its content is anything. */
  take(length: number): Buffer {
    const size = LEAST_BYTES * 2 ** Math.max(0, Math.ceil(Math.log2(length / LEAST_BYTES)));
    // rather a longer one that is there than one more
    const memory =
      this.spare.get(size)?.pop() ?? this.spare.get(2 * size)?.pop() ?? this.spare.get(4 * size)?.pop();
    if (!memory) return Buffer.from(new SharedArrayBuffer(size));
    this.spareBytes -= memory.length;
    return memory;
  }

  /** Gives back what nobody reads any more. */
  give(memory: Buffer): void {
    if (this.spareBytes + memory.length > SPARE_BYTES) return;
    this.spareBytes += memory.length;
    const spare = this.spare.get(memory.length);
    if (spare) spare.push(memory);
    else this.spare.set(memory.length, [memory]);
  }
}

/** Blocks of small files are no longer: a mebibyte, and what the last of them goes beyond it. */
const LEAST_BYTES = 1.25 * 1024 * 1024;
/** As much as is ever used at once: what is dropped the collector frees late, and a restore had twice the memory then. */
const SPARE_BYTES = 96 * 1024 * 1024;
