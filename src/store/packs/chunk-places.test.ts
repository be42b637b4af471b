import fc from "fast-check";
import { describe, expect, it } from "vitest";
import { ID_BYTES } from "../seal/identity";
import { ChunkPlaces } from "./chunk-places";
import type { PackBlock } from "./pack";

/** Ids that are alike in their first bytes, of which few differ: they meet in their slots, around the end too. */
const ids = fc
  .tuple(fc.constantFrom(0, 1, 254, 255), fc.constantFrom(0, 255), fc.integer({ min: 0, max: 7 }))
  .map(([first, second, last]) => {
    const id = new Uint8Array(ID_BYTES).fill(second);
    id[0] = first;
    id[ID_BYTES - 1] = last;
    return id;
  });
const hexOf = (id: Uint8Array) => Buffer.from(id).toString("hex");

/** Blocks of a pack, each of a few chunks; no id twice. */
const packs = fc.uniqueArray(ids, { selector: hexOf, maxLength: 60 }).chain((all) =>
  fc
    .tuple(
      fc.array(fc.nat(5), { minLength: all.length, maxLength: all.length }),
      fc.array(fc.nat(2 ** 33), { minLength: all.length, maxLength: all.length }),
    )
    .map(([blockOf, lengths]) => {
      const chunks = all.map((id, i) => ({ id, block: blockOf[i]!, length: lengths[i]! }));
      return chunks.sort((one, other) => one.block - other.block);
    }),
);

const blockOf = (chunks: { id: Uint8Array; length: number }[]): PackBlock => ({
  offset: 0,
  sealedLength: 0,
  packedLength: 0,
  compressed: false,
  idBytes: new Uint8Array(Buffer.concat(chunks.map(({ id }) => id))),
  ids: chunks.map(({ id }) => id),
  lengths: chunks.map(({ length }) => length),
});

describe("where the chunks of a pack lie", () => {
  it("is found for each, and for no other, however their ids meet", () => {
    fc.assert(
      fc.property(packs, fc.array(ids), (chunks, others) => {
        const blocks = [0, 1, 2, 3, 4, 5].map((number) => chunks.filter(({ block }) => block === number));
        const places = new ChunkPlaces(blocks.map(blockOf));
        for (const [block, ofBlock] of blocks.entries()) {
          let offset = 0;
          for (const [number, { id, length }] of ofBlock.entries()) {
            const chunk = places.find(id);
            expect([
              places.block(chunk),
              places.offset(chunk),
              places.length(chunk),
              places.numberInBlock(chunk),
            ]).toEqual([block, offset, length, number]);
            offset += length;
          }
        }
        const known = new Set(chunks.map(({ id }) => hexOf(id)));
        for (const other of others) expect(places.find(other) >= 0).toBe(known.has(hexOf(other)));
      }),
    );
  });

  it("finds nothing in a pack of no chunks", () => {
    expect(new ChunkPlaces([]).find(new Uint8Array(ID_BYTES))).toBe(-1);
  });
});
