import { ID_BYTES } from "./identity";
import type { PackBlock } from "./pack";

/**
 * Where the chunks of a pack lie in its blocks, found by their ids. Thousands of chunks are looked for in a second, each a few
 * times: ids are compared as they are, without a key for each that would have to be made and hashed.
 */
export class ChunkPlaces {
  /** Numbers of chunks by their ids' first bytes, counted from 1; what finds its slot taken takes the next free one. */
  private readonly slots: Int32Array;
  private readonly ids: Uint8Array;
  /** For each chunk its block, its place in the block's content, its length, its number in the block. */
  private readonly numbers: Float64Array;

  constructor(blocks: readonly PackBlock[]) {
    const count = blocks.reduce((sum, block) => sum + block.lengths.length, 0);
    this.slots = new Int32Array(2 ** Math.ceil(Math.log2(2 * count + 2)));
    this.ids = new Uint8Array(count * ID_BYTES);
    this.numbers = new Float64Array(count * WORDS);
    let chunk = 0;
    for (const [block, { idBytes, lengths }] of blocks.entries()) {
      this.ids.set(idBytes, chunk * ID_BYTES);
      let offset = 0;
      for (const [number, length] of lengths.entries()) {
        this.numbers.set([block, offset, length, number], chunk * WORDS);
        offset += length;
        this.slots[this.slotOf(this.ids, chunk * ID_BYTES)] = chunk + 1;
        chunk += 1;
      }
    }
  }

  /** The chunk of an id, for what follows; -1 where the pack has none. */
  find(id: Uint8Array): number {
    return this.slots[this.slotOf(id, 0)]! - 1;
  }

  block = (chunk: number): number => this.numbers[chunk * WORDS]!;
  offset = (chunk: number): number => this.numbers[chunk * WORDS + 1]!;
  length = (chunk: number): number => this.numbers[chunk * WORDS + 2]!;
  numberInBlock = (chunk: number): number => this.numbers[chunk * WORDS + 3]!;

  /** The slot of the id that begins at a place of some bytes, or the free one that it would have. */
  private slotOf(bytes: Uint8Array, at: number): number {
    const mask = this.slots.length - 1;
    // ids are as good as random
    let slot = (bytes[at]! | (bytes[at + 1]! << 8) | (bytes[at + 2]! << 16) | (bytes[at + 3]! << 24)) & mask;
    for (let taken = this.slots[slot]!; taken !== 0; taken = this.slots[slot]!) {
      if (this.isAt((taken - 1) * ID_BYTES, bytes, at)) break;
      slot = (slot + 1) & mask;
    }
    return slot;
  }

  private isAt(own: number, bytes: Uint8Array, at: number): boolean {
    const { ids } = this;
    for (let i = 0; i < ID_BYTES; i += 1) if (ids[own + i] !== bytes[at + i]) return false;
    return true;
  }
}

const WORDS = 4;
