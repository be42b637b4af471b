import { Encoder } from "cbor-x";
import fc from "fast-check";
import { describe, expect, it } from "vitest";
import { cborEncoder } from "../packs/pack";
import { CborReader, UnknownCbor } from "./cbor-reader";

/** Values of the kinds that a tree is written in, one in another. */
const values = fc.letrec<{ value: unknown }>((tie) => ({
  value: fc.oneof(
    { maxDepth: 3 },
    fc.maxSafeInteger(),
    fc.double({ noNaN: true }),
    fc.string(),
    fc.uint8Array({ maxLength: 300 }),
    fc.array(tie("value"), { maxLength: 4 }),
    fc.dictionary(fc.string({ maxLength: 3 }), tie("value"), { maxKeys: 4 }),
  ),
})).value;
const others = new Encoder({ useRecords: false, variableMapSize: true, tagUint8Array: false });

describe("a reader of CBOR", () => {
  it("passes over just the value that comes, whatever is in it, and reads on behind it", () => {
    fc.assert(
      fc.property(fc.array(values, { maxLength: 6 }), fc.boolean(), (all, ours) => {
        const encoder = ours ? cborEncoder : others;
        const parts = all.map((value) => Buffer.from(encoder.encode(value)));
        const end = Buffer.from(cborEncoder.encode(4711));
        const from = new CborReader(Buffer.concat([...parts, end]));
        let at = 0;
        for (const part of parts) {
          at += part.length;
          from.skip();
          expect(from.position).toBe(at);
        }
        expect(from.number()).toBe(4711);
        expect(from.ended).toBe(true);
      }),
    );
  });

  it("reads whole numbers of 64 bits without loss", () => {
    fc.assert(
      fc.property(fc.bigInt({ min: 0n, max: 2n ** 64n - 1n }), (value) => {
        const written = value < 2n ** 53n ? Number(value) : value;
        const from = new CborReader(Buffer.from(cborEncoder.encode(written)));
        expect(from.whole()).toBe(value);
        expect(from.ended).toBe(true);
      }),
    );
  });

  it("knows nothing but what a tree is written in, and nothing that ends early", () => {
    // a whole number beyond what is exact is known where it is asked for alone
    for (const value of [null, true, undefined, new Date(0), 2n ** 60n])
      expect(() => new CborReader(Buffer.from(others.encode(value))).skip()).toThrow(UnknownCbor);
    const whole = Buffer.from(cborEncoder.encode(["name", new Uint8Array(40), { k: [1, 2, 70_000] }, 1.5]));
    for (let length = 0; length < whole.length; length += 1)
      expect(() => new CborReader(whole.subarray(0, length)).skip()).toThrow(UnknownCbor);
    for (const ask of ["map", "bytes", "latin1", "text", "key", "number", "whole"] as const)
      expect(() => new CborReader(whole)[ask]()).toThrow(UnknownCbor);
  });

  it("does not go on for what a count promises and the bytes do not hold", () => {
    // an array of 2 ** 52, with nothing in it
    const many = Buffer.from([0x9b, 0, 0x10, 0, 0, 0, 0, 0, 0]);
    expect(() => new CborReader(many).skip()).toThrow(UnknownCbor);
    const beyond = Buffer.from([0x9b, 0xff, 0xff, 0xff, 0xff, 0xff, 0xff, 0xff, 0xff]);
    expect(() => new CborReader(beyond).skip()).toThrow(UnknownCbor);
  });
});
