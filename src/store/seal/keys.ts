import { createCipheriv, hkdfSync } from "node:crypto";
import { TABLE_WORDS } from "../write/chunker";

/**
 * Everything that is derived from a client's data key (32 bytes) by HKDF-SHA-256 (RFC 5869). The strings are part of the
 * format: docs/store-format.md.
 */
export interface StoreKeys {
  /** Keys BLAKE3 for the ids of content. */
  readonly chunkId: Buffer;
  /** Keys BLAKE3 for the ids of tree nodes, so that no file can pass for a node. */
  readonly treeId: Buffer;
  /** `TABLE_WORDS` words for the chunker, so that the lengths of chunks tell an onlooker nothing. */
  readonly gear: Uint32Array;
  /** The AES-256 key of one pack or point, by its random id of 16 bytes. */
  objectKey(objectId: Uint8Array): Buffer;
}

const derive = (dataKey: Uint8Array, salt: Uint8Array, info: string): Buffer =>
  Buffer.from(hkdfSync("sha256", dataKey, salt, info, 32));

const EMPTY = new Uint8Array(0);

export function deriveStoreKeys(dataKey: Uint8Array): StoreKeys {
  if (dataKey.length !== 32) throw new RangeError("a data key has 32 bytes");
  const master = Buffer.from(dataKey);
  return {
    chunkId: derive(master, EMPTY, "deep-keep/1 chunk id"),
    treeId: derive(master, EMPTY, "deep-keep/1 tree id"),
    gear: gearTable(derive(master, EMPTY, "deep-keep/1 gear")),
    objectKey: (objectId) => derive(master, objectId, "deep-keep/1 object"),
  };
}

/** Little-endian words of an AES-256-CTR key stream that starts at counter zero. */
function gearTable(key: Buffer): Uint32Array {
  const stream = createCipheriv("aes-256-ctr", key, Buffer.alloc(16)).update(Buffer.alloc(TABLE_WORDS * 4));
  return Uint32Array.from({ length: TABLE_WORDS }, (_, i) => stream.readUInt32LE(i * 4));
}
