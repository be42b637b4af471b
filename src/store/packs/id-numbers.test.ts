import fc from "fast-check";
import { describe, expect, it } from "vitest";
import { ID_BYTES } from "../seal/identity";
import { IdNumbers } from "./id-numbers";

/** Ids that are alike in their first bytes, of which few differ: they meet in their slots, around the end too. */
const ids = fc.tuple(fc.constantFrom(0, 1, 254, 255), fc.nat(3), fc.nat(200)).map(([first, second, last]) => {
  const id = new Uint8Array(ID_BYTES).fill(255);
  id.set([first, second], 0);
  id[ID_BYTES - 1] = last;
  return id;
});

describe("numbers of ids", () => {
  it("are given in order, once each, however many come and wherever their slots meet", () => {
    fc.assert(
      fc.property(fc.array(ids, { maxLength: 400 }), fc.nat(5), ids, (all, room, other) => {
        const numbers = new IdNumbers(room);
        const wanted = new Map<string, number>();
        const hexOf = (id: Uint8Array) => Buffer.from(id).toString("hex");
        for (const id of all) {
          // as they lie in a list of ids
          const list = Buffer.concat([Buffer.alloc(ID_BYTES, 7), id]);
          const number = numbers.add(list, ID_BYTES);
          if (!wanted.has(hexOf(id))) wanted.set(hexOf(id), wanted.size);
          expect(number).toBe(wanted.get(hexOf(id)));
        }
        expect(numbers.count).toBe(wanted.size);
        for (const id of [...all, other]) expect(numbers.find(id)).toBe(wanted.get(hexOf(id)) ?? -1);
      }),
    );
  });
});
