import { Decoder, Encoder } from "cbor-x";
import { CodedError } from "@/core/codes";
import type { PressedBlock, SealedBlock } from "../press/block";
import { TAG_BYTES } from "../seal/gcm";
import { ID_BYTES, splitIds } from "../seal/identity";
import type { StoreKeys } from "../seal/keys";
import { HEADER_BYTES, headerOf, readHeader, seal, unseal } from "../seal/sealing";
import { PackMemory } from "./pack-memory";

/**
 * A pack: header, sealed blocks, sealed directory, trailer. A block is a run of chunks compressed together, so that many
 * small files make one. Complete or invalid: without its trailer nothing of it is read.
 */
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
  /** Ids of its chunks, one after another, and the same split. */
  readonly idBytes: Uint8Array;
  readonly ids: readonly Uint8Array[];
  readonly lengths: readonly number[];
}

/** A block as the directory lists it: the offset is not known before the end where it lies beyond the pack's memory. */
type Listed = [
  offset: number,
  sealedLength: number,
  packedLength: number,
  compressed: number,
  ids: Buffer,
  lengths: readonly number[],
];

/** Collects sealed blocks into one pack in memory. A block's place is taken before it is sealed: its nonce is the place. */
export class PackBuilder {
  readonly id: Buffer;
  readonly ids: Uint8Array[] = [];
  readonly header: Buffer;
  readonly key: Buffer;
  size = HEADER_BYTES;
  /** Places that were taken and are not filled yet. */
  pending = 0;
  contentBytes = 0;
  readonly memory: PackMemory;
  private readonly directory: (Listed | null)[] = [];
  /** Blocks that the memory had no room for. */
  private readonly beyond: { readonly listed: Listed; readonly sealed: Uint8Array }[] = [];

  constructor(keys: StoreKeys, id: Buffer) {
    this.id = id;
    this.header = headerOf("pack", id);
    this.key = keys.objectKey(id);
    this.memory = spare.pop() ?? new PackMemory();
    this.put(this.header);
  }

  /** Puts a part into the memory; false where there is no room. */
  private put(part: Uint8Array): boolean {
    const at = this.memory.take(part.length);
    if (at === null) return false;
    this.memory.bytes.set(part, at);
    return true;
  }

  /** Gives the pack's memory to the next one; its bytes are gone then. */
  release(): void {
    if (spare.length >= SPARE_MOST) return;
    this.memory.clear();
    spare.push(this.memory);
  }

  /** Takes the next place; `fill` it. */
  reserve(): number {
    this.pending += 1;
    return this.directory.push(null) - 1;
  }

  /** Lists the sealed block of a place. */
  fill(
    place: number,
    { lies, sealedLength, packedLength, compressed }: PressedBlock,
    ids: readonly Uint8Array[],
    lengths: readonly number[],
  ): void {
    const inside = typeof lies === "number";
    const listed: Listed = [
      inside ? lies : 0,
      sealedLength,
      packedLength,
      compressed ? 1 : 0,
      Buffer.concat(ids),
      lengths,
    ];
    this.directory[place] = listed;
    if (!inside) this.beyond.push({ listed, sealed: lies });
    this.size += sealedLength;
    this.ids.push(...ids);
    for (const length of lengths) this.contentBytes += length;
    this.pending -= 1;
  }

  /** Ends the pack; returns its bytes, which are its own until `release`. */
  finish(): Buffer {
    let end = this.memory.taken;
    for (const { listed, sealed } of this.beyond) {
      listed[0] = end;
      end += sealed.length;
    }
    const directory = frame(cborEncoder.encode({ b: this.directory }), 4096);
    const trailer = Buffer.alloc(TRAILER_BYTES);
    trailer.writeBigUInt64LE(BigInt(end), 0);
    trailer.writeUInt32LE(directory.length + TAG_BYTES, 8);
    trailer.writeUInt32LE(this.directory.length, 12);
    TRAILER_MAGIC.copy(trailer, 16);
    const last = Buffer.concat([seal(this.key, DIRECTORY_PLACE, this.header, directory), trailer]);
    this.size = end + last.length;
    if (this.beyond.length === 0 && this.put(last)) return this.memory.bytes.subarray(0, this.size);
    const within = this.memory.bytes.subarray(0, this.memory.taken);
    return Buffer.concat([within, ...this.beyond.map(({ sealed }) => sealed), last]);
  }
}

/** What a pack holds: its chunks, and how long they are together before compressing and sealing. */
export interface PackHolds {
  readonly ids: readonly Uint8Array[];
  readonly contentBytes: number;
}

/** Memory of packs that are stored, for the next ones. */
const SPARE_MOST = 3;
const spare: PackMemory[] = [];

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
  /** `into`: memory that the bytes may be put into; a source that cannot gives them in its own. */
  read(offset: number, length: number, into?: Buffer): Promise<Buffer>;
}

/** An opened pack: its directory, and how its blocks are opened. */
export interface OpenPack {
  readonly blocks: readonly PackBlock[];
  /** A block by its number with its sealed bytes, to be opened. Throws `store.damaged` when they are cut short. */
  readonly sealedBlock: (number: number, sealed: Uint8Array) => SealedBlock;
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
    idBytes: ids.subarray(0, lengths.length * ID_BYTES),
    // of a large pack they are thousands, and who finds chunks by their ids needs none of them apart
    get ids() {
      return splitIds(this.idBytes);
    },
    lengths,
  }));
  return {
    blocks,
    sealedBlock: (place, sealed) => {
      const { sealedLength, packedLength, compressed, lengths } = blocks[place]!;
      if (sealed.length !== sealedLength) throw new CodedError("store.damaged", "a block is cut short");
      const length = lengths.reduce((sum, one) => sum + one, 0);
      return { sealed, key, header, place, packedLength, compressed, length };
    },
  };
}
