import { Decoder, Encoder } from "cbor-x";
import { CodedError } from "@/core/codes";
import type { StoreKeys } from "./keys";
import { HEADER_BYTES, headerOf, paddedLength, readHeader, seal, TAG_BYTES, unseal } from "./sealing";

/**
 * A pack: header, sealed blocks, sealed directory, trailer. A block is a run of chunks compressed together, so that many
 * small files make one. Complete or invalid: without its trailer nothing of it is read.
 */
export const ID_BYTES = 32;
export const TRAILER_BYTES = 24;
const TRAILER_MAGIC = Buffer.from("KEEPDEEP");
const DIRECTORY_PLACE = 0xffffffff;

export const cborEncoder = new Encoder({ useRecords: false, mapsAsObjects: true, tagUint8Array: false });
export const cborDecoder = new Decoder({ useRecords: false, mapsAsObjects: true });

/** A block as the directory of its pack tells it. */
export interface PackBlock {
  readonly offset: number;
  /** Sealed length, tag and padding included. */
  readonly sealedLength: number;
  /** Length before padding. */
  readonly packedLength: number;
  readonly compressed: boolean;
  readonly ids: readonly Uint8Array[];
  readonly lengths: readonly number[];
}

/** Collects blocks into one pack in memory. */
export class PackBuilder {
  readonly id: Buffer;
  readonly ids: Uint8Array[] = [];
  size = HEADER_BYTES;
  private readonly header: Buffer;
  private readonly key: Buffer;
  private readonly parts: Buffer[];
  private readonly directory: unknown[] = [];

  constructor(keys: StoreKeys, id: Buffer) {
    this.id = id;
    this.header = headerOf("pack", id);
    this.key = keys.objectKey(id);
    this.parts = [this.header];
  }

  /** Seals one block. `packed` is compressed or raw content of the chunks in order. */
  addBlock(
    packed: Uint8Array,
    compressed: boolean,
    ids: readonly Uint8Array[],
    lengths: readonly number[],
  ): void {
    const padded = Buffer.allocUnsafe(paddedLength(packed.length));
    padded.set(packed);
    padded.fill(0, packed.length);
    const sealed = seal(this.key, this.directory.length, this.header, padded);
    const sealedLength = padded.length + TAG_BYTES;
    this.directory.push([
      this.size,
      sealedLength,
      packed.length,
      compressed ? 1 : 0,
      Buffer.concat(ids),
      lengths,
    ]);
    this.parts.push(...sealed);
    this.ids.push(...ids);
    this.size += sealedLength;
  }

  /** Ends the pack; returns its bytes in pieces. */
  finish(): Buffer[] {
    const directory = frame(cborEncoder.encode({ b: this.directory }), 4096);
    const trailer = Buffer.alloc(TRAILER_BYTES);
    trailer.writeBigUInt64LE(BigInt(this.size), 0);
    trailer.writeUInt32LE(directory.length + TAG_BYTES, 8);
    trailer.writeUInt32LE(this.directory.length, 12);
    TRAILER_MAGIC.copy(trailer, 16);
    this.parts.push(...seal(this.key, DIRECTORY_PLACE, this.header, directory), trailer);
    this.size += directory.length + TAG_BYTES + TRAILER_BYTES;
    return this.parts;
  }
}

/** A length (u32 LE), the bytes, zeros up to a multiple of `step`. */
export function frame(bytes: Uint8Array, step: number): Buffer {
  const framed = Buffer.alloc(Math.ceil((bytes.length + 4) / step) * step);
  framed.writeUInt32LE(bytes.length, 0);
  framed.set(bytes, 4);
  return framed;
}

export function unframe(framed: Buffer): Buffer {
  const length = framed.readUInt32LE(0);
  if (length > framed.length - 4) throw new CodedError("store.damaged", "a frame is longer than its bytes");
  return framed.subarray(4, 4 + length);
}

/** Reads bytes of one pack by place; a short answer means that the pack is cut. */
export interface PackBytes {
  readonly size: number;
  read(offset: number, length: number): Promise<Buffer>;
}

/** An opened pack: its directory, and the key to its blocks. */
export interface OpenPack {
  readonly blocks: readonly PackBlock[];
  readonly unsealBlock: (block: number, sealed: Buffer) => Buffer;
}

/** Reads header, trailer and directory of a pack. Throws `store.damaged` for anything that is not whole. */
export async function openPack(keys: StoreKeys, id: Uint8Array, bytes: PackBytes): Promise<OpenPack> {
  if (bytes.size < HEADER_BYTES + TRAILER_BYTES) throw new CodedError("store.damaged", "a pack is cut short");
  const trailer = await bytes.read(bytes.size - TRAILER_BYTES, TRAILER_BYTES);
  if (trailer.length !== TRAILER_BYTES || !trailer.subarray(16).equals(TRAILER_MAGIC)) {
    throw new CodedError("store.damaged", "a pack has no end");
  }
  const directoryAt = Number(trailer.readBigUInt64LE(0));
  const directoryLength = trailer.readUInt32LE(8);
  if (directoryAt + directoryLength + TRAILER_BYTES !== bytes.size) {
    throw new CodedError("store.damaged", "the end of a pack does not fit its length");
  }
  const header = await bytes.read(0, HEADER_BYTES);
  if (!readHeader(header, "pack").equals(id))
    throw new CodedError("store.damaged", "a pack stands in another's place");
  const key = keys.objectKey(id);
  const directory = unframe(
    unseal(key, DIRECTORY_PLACE, header, await bytes.read(directoryAt, directoryLength)),
  );
  const { b } = cborDecoder.decode(directory) as { b: [number, number, number, number, Buffer, number[]][] };
  if (b.length !== trailer.readUInt32LE(12))
    throw new CodedError("store.damaged", "the end of a pack does not fit its directory");
  const blocks = b.map(([offset, sealedLength, packedLength, compressed, ids, lengths]) => ({
    offset,
    sealedLength,
    packedLength,
    compressed: compressed === 1,
    ids: lengths.map((_, i) => ids.subarray(i * ID_BYTES, (i + 1) * ID_BYTES)),
    lengths,
  }));
  return {
    blocks,
    unsealBlock: (place, sealed) => {
      const block = blocks[place]!;
      if (sealed.length !== block.sealedLength) throw new CodedError("store.damaged", "a block is cut short");
      return unseal(key, place, header, sealed).subarray(0, block.packedLength);
    },
  };
}
