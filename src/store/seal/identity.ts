import { Blake3Hasher } from "@napi-rs/blake-hash";

/** How long an id is. */
export const ID_BYTES = 32;

/** Splits concatenated ids. */
export const splitIds = (ids: Uint8Array): Uint8Array[] =>
  Array.from({ length: ids.length / ID_BYTES }, (_, i) => ids.subarray(i * ID_BYTES, (i + 1) * ID_BYTES));

/** Ids of content under one key: BLAKE3 in keyed mode, 32 bytes. One hasher serves all calls; making one costs more than using it. */
export class Identifier {
  private readonly hasher: Blake3Hasher;

  constructor(key: Buffer) {
    this.hasher = Blake3Hasher.newKeyed(key);
  }

  id(bytes: Uint8Array): Buffer {
    return Buffer.from(this.hex(bytes), "hex");
  }

  /** The same in hex. The hasher's own buffers are twice as dear: each is memory of its own that the collector must watch. */
  hex(bytes: Uint8Array): string {
    this.hasher.reset();
    return this.hasher.update(bytes).digest();
  }
}
