/** Memory of a pack: what comes after its size is reached, and its directory, have room too. */
const MEMORY_BYTES = 40 * 1024 * 1024;
/** How much is taken stands before it. */
const BEFORE = 64;

/**
 * Memory that a pack is built in, shared with the threads that seal its blocks: each takes its place when it knows how long
 * its block is, so that nothing is copied together afterwards. What is taken lies without gaps from the beginning on.
 */
export class PackMemory {
  readonly bytes: Buffer;
  private readonly count: Int32Array;

  constructor(readonly shared = new SharedArrayBuffer(BEFORE + MEMORY_BYTES)) {
    this.bytes = Buffer.from(shared, BEFORE);
    this.count = new Int32Array(shared, 0, 1);
  }

  get taken(): number {
    return Atomics.load(this.count, 0);
  }

  /** Takes the next bytes: where they begin, or null where there is no room for them. */
  take(length: number): number | null {
    for (let at = this.taken; at + length <= this.bytes.length; ) {
      const before = Atomics.compareExchange(this.count, 0, at, at + length);
      if (before === at) return at;
      at = before;
    }
    return null;
  }

  /** All of it is free again. */
  clear(): void {
    Atomics.store(this.count, 0, 0);
  }
}
