import { CodedError } from "@/core/codes";
import type { PackMemory } from "../packs/pack-memory";
import { TAG_BYTES } from "../seal/gcm";
import { ID_BYTES, Identifier } from "../seal/identity";
import { paddedLength, sealInto, unseal } from "../seal/sealing";
import { putBytes } from "../write/copy";
import { type Compressor, looksDense } from "./compressor";

/** Chunks that become one sealed block of a pack. */
export interface BlockJob {
  readonly parts: readonly Uint8Array[];
  /** Zstandard's level; null stores the block as it is. */
  readonly level: number | null;
  /** Of the pack that it goes into: key, header, the block's place, and the memory that takes it. */
  readonly key: Uint8Array;
  readonly header: Uint8Array;
  readonly place: number;
  readonly memory: PackMemory;
}

export interface PressedBlock {
  /** Cipher text and tag: where in the pack's memory they begin, or in memory of their own where that had no room. */
  readonly lies: number | Uint8Array;
  readonly sealedLength: number;
  /** Length before padding. */
  readonly packedLength: number;
  readonly compressed: boolean;
}

/** Gives memory of at least a length, the same again at the next call. */
export type Scratch = (length: number) => Buffer;

export function makeScratch(): Scratch {
  let memory = Buffer.alloc(0);
  return (length) => {
    if (memory.length < length) memory = Buffer.allocUnsafeSlow(length);
    return memory.subarray(0, length);
  };
}

/** Gathers, compresses and seals one block. */
export async function pressBlock(
  job: BlockJob,
  compressor: Compressor,
  scratch: Scratch,
): Promise<PressedBlock> {
  const { level, key, header, place, memory } = job;
  const raw = gather(job.parts, scratch);
  const small = level === null || looksDense(raw) ? null : await compressor.compress(raw, level);
  const packed = small ?? raw;
  const padded = paddedLength(packed.length);
  const sealedLength = padded + TAG_BYTES;
  const at = memory.take(sealedLength);
  const sealed =
    at === null ? Buffer.allocUnsafeSlow(sealedLength) : memory.bytes.subarray(at, at + sealedLength);
  sealInto(sealed, key, place, header, packed, Buffer.alloc(padded - packed.length));
  return { lies: at ?? sealed, sealedLength, packedLength: packed.length, compressed: small !== null };
}

/** A sealed block as it lies in its pack, and what opens it. */
export interface SealedBlock {
  readonly sealed: Uint8Array;
  readonly key: Uint8Array;
  readonly header: Uint8Array;
  readonly place: number;
  /** Length before padding. */
  readonly packedLength: number;
  readonly compressed: boolean;
  /** Length of the content. */
  readonly length: number;
}

/** The content of a block, in the memory given where there is one. Throws `store.damaged` where it is not what was sealed. */
export async function openBlock(
  block: SealedBlock,
  compressor: Compressor,
  into?: Buffer,
  scratch?: Scratch,
): Promise<Buffer> {
  const { key, place, header, sealed, packedLength } = block;
  // what was not compressed is opened where it is to lie, if its padding has room there
  const straight = !block.compressed && into !== undefined && into.length >= sealed.length;
  const room = straight ? into : scratch?.(sealed.length);
  const packed = unseal(key, place, header, sealed, room).subarray(0, packedLength);
  if (block.compressed) return compressor.decompress(packed, block.length, into);
  if (packed.length !== block.length) throw new CodedError("store.damaged", "a block has not its length");
  if (!into || straight) return packed;
  putBytes(into, 0, packed);
  return into.subarray(0, block.length);
}

/** What the chunks of a block should be: their ids under a key, one after another, and their lengths. */
export interface BlockNames {
  readonly key: Uint8Array;
  readonly ids: Uint8Array;
  readonly lengths: Uint32Array;
}

const ID_HEX = 2 * ID_BYTES;

/** The numbers of those chunks in a block's content that are not what their ids say. */
export function misnamed(content: Uint8Array, { key, ids, lengths }: BlockNames): number[] {
  const identifier = new Identifier(Buffer.from(key));
  const named = Buffer.from(ids.buffer, ids.byteOffset, ids.byteLength).toString("hex");
  const wrong: number[] = [];
  let at = 0;
  for (const [number, length] of lengths.entries()) {
    const id = identifier.hex(content.subarray(at, at + length));
    if (id !== named.slice(number * ID_HEX, (number + 1) * ID_HEX)) wrong.push(number);
    at += length;
  }
  return wrong;
}

function gather(parts: readonly Uint8Array[], scratch: Scratch): Uint8Array {
  if (parts.length === 1) return parts[0]!;
  const raw = scratch(parts.reduce((sum, part) => sum + part.length, 0));
  let at = 0;
  for (const part of parts) {
    putBytes(raw, at, part);
    at += part.length;
  }
  return raw;
}
