import { CodedError } from "@/core/codes";
import { openBlock } from "../press/block";
import { compressor } from "../press/compressor";
import { Identifier } from "../seal/identity";
import type { StoreKeys } from "../seal/keys";
import { type OpenPack, openPack, type PackBytes } from "./pack";

/** Checks that each chunk of a block is what its id says. Returns the sealed bytes read. Throws `store.damaged`. */
export async function verifyBlock(
  keys: StoreKeys,
  pack: OpenPack,
  bytes: PackBytes,
  place: number,
): Promise<number> {
  const block = pack.blocks[place]!;
  const identifiers = [new Identifier(keys.chunkId), new Identifier(keys.treeId)];
  const sealed = await bytes.read(block.offset, block.sealedLength);
  const raw = await openBlock(pack.sealedBlock(place, sealed), compressor);
  let at = 0;
  for (const [i, chunk] of block.ids.entries()) {
    const content = raw.subarray(at, at + block.lengths[i]!);
    at += content.length;
    if (!identifiers.some((identifier) => identifier.id(content).equals(chunk)))
      throw new CodedError("store.damaged", "a chunk is not what its id says");
  }
  return sealed.length;
}

/** Ids of the chunks that a pack really holds, each compared with its content; what does not open is not among them. */
export async function verifiedIds(keys: StoreKeys, packId: Buffer, bytes: PackBytes): Promise<Uint8Array[]> {
  const damaged = (error: unknown): null => {
    if (error instanceof CodedError && ["store.damaged", "store.wrong-key"].includes(error.code)) return null;
    throw error;
  };
  const pack = await openPack(keys, packId, bytes).catch(damaged);
  if (!pack) return [];
  const ids: Uint8Array[] = [];
  for (const [place, block] of pack.blocks.entries())
    if ((await verifyBlock(keys, pack, bytes, place).catch(damaged)) !== null) ids.push(...block.ids);
  return ids;
}
