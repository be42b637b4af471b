import { Blake3Hasher } from "@napi-rs/blake-hash";

/** How long an id is. */
export const ID_BYTES = 32;

/** Ids of content under one key: BLAKE3 in keyed mode, 32 bytes. One hasher serves all calls; making one costs more than using it. */
export class Identifier {
  private readonly hasher: Blake3Hasher;

  constructor(key: Buffer) {
    this.hasher = Blake3Hasher.newKeyed(key);
  }

  id(bytes: Uint8Array): Buffer {
    this.hasher.reset();
    return this.hasher.update(bytes as Buffer).digestBuffer();
  }
}
