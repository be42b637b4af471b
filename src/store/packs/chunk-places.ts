import { ID_BYTES } from "../seal/identity";
import { IdNumbers } from "./id-numbers";
import type { PackBlock } from "./pack";

/**
 * Where the chunks of a pack lie in its blocks, found by their ids. Thousands of chunks are looked for in a second, each a few
 * times.
 */
export class ChunkPlaces {
  private readonly ids: IdNumbers;
  /** For each chunk its block, its place in the block's content, its length, its number in the block. */
  private readonly numbers: Float64Array;

  constructor(blocks: readonly PackBlock[]) {
    const count = blocks.reduce((sum, block) => sum + block.lengths.length, 0);
    this.ids = new IdNumbers(count);
    this.numbers = new Float64Array(count * WORDS);
    for (const [block, { idBytes, lengths }] of blocks.entries()) {
      let offset = 0;
      for (const [number, length] of lengths.entries()) {
        const chunk = this.ids.add(idBytes, number * ID_BYTES);
        this.numbers.set([block, offset, length, number], chunk * WORDS);
        offset += length;
      }
    }
  }

  /** How many chunks there are. */
  get count(): number {
    return this.ids.count;
  }

  /** The chunk of an id, for what follows; -1 where the pack has none. */
  find(id: Uint8Array): number {
    return this.ids.find(id);
  }

  block = (chunk: number): number => this.numbers[chunk * WORDS]!;
  offset = (chunk: number): number => this.numbers[chunk * WORDS + 1]!;
  length = (chunk: number): number => this.numbers[chunk * WORDS + 2]!;
  numberInBlock = (chunk: number): number => this.numbers[chunk * WORDS + 3]!;
}

const WORDS = 4;
