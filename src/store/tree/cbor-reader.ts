/** Something that a reader of a few known kinds of values does not know; the whole is left to the decoder then. */
export class UnknownCbor extends Error {}

const UNSIGNED = 0;
const NEGATIVE = 1;
const BYTES = 2;
const TEXT = 3;
const ARRAY = 4;
const MAP = 5;
const LONG = 0x1b;
const DOUBLE = 0xfb;

/** Keys of two letters that were read before, so that one is not made anew for every entry. */
const twoLetters = new Map<number, string>();

/**
 * Reads what `CborWriter` writes, value by value, without an object for each map in between: an unchanged run decodes all
 * that is known of a tree. Throws `UnknownCbor` for anything that is not of the kind that was asked for, or ends early.
 */
export class CborReader {
  private at = 0;

  constructor(private readonly memory: Buffer) {}

  /** How much of it was read, bytes. */
  get position(): number {
    return this.at;
  }

  /** All of it was read. */
  get ended(): boolean {
    return this.at === this.memory.length;
  }

  private byte(): number {
    const byte = this.memory[this.at];
    if (byte === undefined) throw new UnknownCbor();
    this.at += 1;
    return byte;
  }

  private span(length: number): number {
    const from = this.at;
    this.at += length;
    if (this.at > this.memory.length) throw new UnknownCbor();
    return from;
  }

  /** What a header counts, whose first byte says so: up to 2 ** 53 - 1. */
  private counted(head: number): number {
    const size = head & 0x1f;
    if (size < 0x18) return size;
    if (size === 0x18) return this.byte();
    if (size === 0x19) return this.memory.readUInt16BE(this.span(2));
    if (size === 0x1a) return this.memory.readUInt32BE(this.span(4));
    if (size !== LONG) throw new UnknownCbor();
    const high = this.memory.readUInt32BE(this.span(4));
    const count = high * 2 ** 32 + this.memory.readUInt32BE(this.span(4));
    if (count > Number.MAX_SAFE_INTEGER) throw new UnknownCbor();
    return count;
  }

  private count(kind: number): number {
    const head = this.byte();
    if (head >> 5 !== kind) throw new UnknownCbor();
    return this.counted(head);
  }

  array(): number {
    return this.count(ARRAY);
  }

  map(): number {
    return this.count(MAP);
  }

  /** A key of one letter or two. */
  key(): string {
    const head = this.byte();
    const first = this.byte();
    if (head === ((TEXT << 5) | 1)) return String.fromCharCode(first);
    if (head !== ((TEXT << 5) | 2)) throw new UnknownCbor();
    const code = (first << 8) | this.byte();
    let key = twoLetters.get(code);
    if (key === undefined) {
      key = String.fromCharCode(first, code & 0xff);
      twoLetters.set(code, key);
    }
    return key;
  }

  number(): number {
    const head = this.byte();
    if (head === DOUBLE) return this.memory.readDoubleBE(this.span(8));
    if (head >> 5 === UNSIGNED) return this.counted(head);
    if (head >> 5 === NEGATIVE) return -1 - this.counted(head);
    throw new UnknownCbor();
  }

  /** A whole number of 64 bits without a sign. */
  whole(): bigint {
    if (this.memory[this.at] !== LONG) return BigInt(this.number());
    this.at += 1;
    return this.memory.readBigUInt64BE(this.span(8));
  }

  /** Passes over a value of any of these kinds, and what is in it. */
  skip(): void {
    const head = this.byte();
    if (head === DOUBLE) {
      this.span(8);
      return;
    }
    const count = this.counted(head);
    const kind = head >> 5;
    if (kind === BYTES || kind === TEXT) this.span(count);
    else if (kind === ARRAY || kind === MAP)
      for (let left = kind === MAP ? 2 * count : count; left > 0; left -= 1) this.skip();
    else if (kind > NEGATIVE) throw new UnknownCbor();
  }

  /** A part of the memory that is read. */
  bytes(): Uint8Array {
    const length = this.count(BYTES);
    const from = this.span(length);
    return this.memory.subarray(from, from + length);
  }

  /** A byte string as characters that are one byte each. */
  latin1(): string {
    const length = this.count(BYTES);
    const from = this.span(length);
    return this.memory.toString("latin1", from, from + length);
  }

  text(): string {
    const length = this.count(TEXT);
    const from = this.span(length);
    return this.memory.toString("utf8", from, from + length);
  }
}
