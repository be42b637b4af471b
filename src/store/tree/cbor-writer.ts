import { cborEncoder } from "../packs/pack";

const UNSIGNED = 0;
const BYTES = 2;
const ARRAY = 4;
const HEADER_MOST = 5;

/**
 * Writes the parts of which there are millions, numbers, byte strings, arrays and maps, byte for byte as the store's encoder
 * writes them (RFC 8949), without an object for each map in between: a tree of a hundred thousand files takes a third of the
 * time. Everything else is left to the encoder. Maps are written with a count of 16 bits, as that writes them.
 */
export class CborWriter {
  private memory = Buffer.allocUnsafeSlow(256 * 1024);
  private at = 0;

  /** What `write` writes, in memory of its own. */
  written(write: () => void): Buffer {
    this.at = 0;
    write();
    return Buffer.from(this.memory.subarray(0, this.at));
  }

  private makeRoom(length: number): void {
    if (this.at + length <= this.memory.length) return;
    const longer = Buffer.allocUnsafeSlow(2 * (this.at + length));
    longer.set(this.memory.subarray(0, this.at));
    this.memory = longer;
  }

  private header(kind: number, count: number): void {
    this.makeRoom(HEADER_MOST);
    const { memory } = this;
    if (count < 0x18) memory[this.at++] = (kind << 5) | count;
    else if (count < 0x100) {
      memory[this.at++] = (kind << 5) | 0x18;
      memory[this.at++] = count;
    } else if (count < 0x10000) {
      memory[this.at++] = (kind << 5) | 0x19;
      memory[this.at++] = count >> 8;
      memory[this.at++] = count;
    } else {
      memory[this.at++] = (kind << 5) | 0x1a;
      this.at = memory.writeUInt32BE(count, this.at);
    }
  }

  array(count: number): void {
    this.header(ARRAY, count);
  }

  /** A map of fewer than 256 keys. */
  map(count: number): void {
    this.makeRoom(3);
    this.memory[this.at++] = 0xb9;
    this.memory[this.at++] = 0;
    this.memory[this.at++] = count;
  }

  /** A key of one letter or two. */
  key(name: string): void {
    this.makeRoom(3);
    this.memory[this.at++] = 0x60 | name.length;
    for (let i = 0; i < name.length; i += 1) this.memory[this.at++] = name.charCodeAt(i);
  }

  number(value: number): void {
    if (value >>> 0 === value) this.header(UNSIGNED, value);
    else this.other(value);
  }

  bytes(bytes: Uint8Array): void {
    this.header(BYTES, bytes.length);
    this.raw(bytes);
  }

  /** What is encoded already. */
  raw(encoded: Uint8Array): void {
    this.makeRoom(encoded.length);
    this.memory.set(encoded, this.at);
    this.at += encoded.length;
  }

  /** A byte string of characters that are one byte each. */
  latin1(text: string): void {
    this.header(BYTES, text.length);
    this.makeRoom(text.length);
    this.at += this.memory.write(text, this.at, "latin1");
  }

  /** Anything that the encoder knows. */
  other(value: unknown): void {
    this.raw(cborEncoder.encode(value));
  }
}
