import { CodedError } from "@/core/codes";
import { putBytes } from "../copy";
import { ID_BYTES, Identifier } from "../identity";
import { paddedLength, sealInto, TAG_BYTES, unseal } from "../sealing";
import { type Compressor, looksDense } from "./compressor";

/** Chunks that become one sealed block of a pack. */
export interface BlockJob {
  readonly parts: readonly Uint8Array[];
  /** Zstandard's level; null stores the block as it is. */
  readonly level: number | null;
  /** Key, header and place of the pack that it goes into. */
  readonly key: Uint8Array;
  readonly header: Uint8Array;
  readonly place: number;
}

export interface PressedBlock {
  /** Cipher text and tag. The memory is used again: whoever gets it copies it at once. */
  readonly sealed: Uint8Array;
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

/** Gathers, compresses and seals one block: into `out` where that is long enough, else into memory of its own. */
export async function pressBlock(
  job: BlockJob,
  compressor: Compressor,
  scratch: Scratch,
  out?: Uint8Array,
): Promise<PressedBlock> {
  const raw = gather(job.parts, scratch);
  const small = job.level === null || looksDense(raw) ? null : await compressor.compress(raw, job.level);
  const packed = small ?? raw;
  const padded = paddedLength(packed.length);
  const length = padded + TAG_BYTES;
  const sealed = out && out.length >= length ? out.subarray(0, length) : Buffer.allocUnsafeSlow(length);
  sealInto(sealed, job.key, job.place, job.header, packed, Buffer.alloc(padded - packed.length));
  return { sealed, packedLength: packed.length, compressed: small !== null };
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
  const packed = unseal(key, place, header, sealed, scratch?.(sealed.length)).subarray(0, packedLength);
  if (block.compressed) return compressor.decompress(packed, block.length, into);
  if (packed.length !== block.length) throw new CodedError("store.damaged", "a block has not its length");
  if (!into) return packed;
  putBytes(into, 0, packed);
  return into.subarray(0, block.length);
}

/** What the chunks of a block should be: their ids under a key, one after another, and their lengths. */
export interface BlockNames {
  readonly key: Uint8Array;
  readonly ids: Uint8Array;
  readonly lengths: readonly number[];
}

/** The numbers of those chunks in a block's content that are not what their ids say. */
export function misnamed(content: Uint8Array, { key, ids, lengths }: BlockNames): number[] {
  const identifier = new Identifier(Buffer.from(key));
  const wrong: number[] = [];
  let at = 0;
  for (const [number, length] of lengths.entries()) {
    const id = identifier.id(content.subarray(at, at + length));
    if (id.compare(ids, number * ID_BYTES, (number + 1) * ID_BYTES) !== 0) wrong.push(number);
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
