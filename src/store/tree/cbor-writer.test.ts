import fc from "fast-check";
import { describe, expect, it } from "vitest";
import { cborDecoder, cborEncoder } from "../packs/pack";
import { CborWriter } from "./cbor-writer";

/** What can be written part by part, as the encoder takes it whole. */
type Part = number | Buffer | readonly Part[] | { readonly [key: string]: Part };

const writer = new CborWriter();

function write(part: Part): void {
  if (typeof part === "number") writer.number(part);
  else if (Buffer.isBuffer(part)) writer.bytes(part);
  else if (Array.isArray(part)) {
    writer.array(part.length);
    for (const one of part as readonly Part[]) write(one);
  } else {
    const entries = Object.entries(part as { [key: string]: Part });
    writer.map(entries.length);
    for (const [key, one] of entries) {
      writer.key(key);
      write(one);
    }
  }
}
const written = (part: Part): Buffer => writer.written(() => write(part));

/** About each length of a header, and what no header of four bytes has room for. */
const EDGES = [
  0,
  23,
  24,
  255,
  256,
  65_535,
  65_536,
  2 ** 31 - 1,
  2 ** 31,
  2 ** 32 - 1,
  2 ** 32,
  2 ** 53 - 1,
  -1,
  1.5,
];
const numbers = fc.oneof(fc.constantFrom(...EDGES), fc.maxSafeInteger(), fc.double({ noNaN: true }));
const bytes = fc.uint8Array({ maxLength: 400 }).map((text) => Buffer.from(text));
const keys = fc.stringMatching(/^[a-zA-Z]{1,2}$/);
const { part } = fc.letrec<{ part: Part }>((tie) => ({
  part: fc.oneof(
    { maxDepth: 4 },
    numbers,
    bytes,
    fc.array(tie("part"), { maxLength: 30 }),
    fc.dictionary(keys, tie("part"), { maxKeys: 20, noNullPrototype: true }),
  ),
}));

describe("parts written one by one", () => {
  it("are byte for byte what the encoder writes of the whole", () => {
    fc.assert(
      fc.property(part, (whole) => {
        expect(written(whole).equals(cborEncoder.encode(whole))).toBe(true);
      }),
    );
    for (const edge of EDGES) expect([edge, written(edge)]).toEqual([edge, cborEncoder.encode(edge)]);
  });

  it("are what they were when they are read, as long as they may be", () => {
    const long = {
      n: Array.from({ length: 70_000 }, (_, i) => i * 977),
      b: Buffer.alloc(300_000, 7),
      l: Array.from({ length: 256 }, () => Buffer.alloc(255, 1)),
    };
    const read = cborDecoder.decode(written(long)) as typeof long;
    expect(read.n).toEqual(long.n);
    expect(read.b.equals(long.b)).toBe(true);
    expect(read.l).toHaveLength(256);
    // and memory that was grown for it does no harm to what comes afterwards
    expect(written([1, { a: 2 }])).toEqual(cborEncoder.encode([1, { a: 2 }]));
  });

  it("stay what they are when others are written", () => {
    const first = written([1, Buffer.from("first")]);
    const copy = Buffer.from(first);
    written([2, Buffer.alloc(100, 9)]);
    expect(first.equals(copy)).toBe(true);
  });

  it("take names of any bytes, what is encoded already, and whatever else the encoder knows", () => {
    const name = "f\xff\x00g\xe4";
    const mixed = writer.written(() => {
      writer.array(4);
      writer.latin1(name);
      writer.raw(cborEncoder.encode({ s: "text" }));
      writer.other(12_345_678_901_234_567_890n);
      writer.other(null);
    });
    expect(mixed).toEqual(
      cborEncoder.encode([Buffer.from(name, "latin1"), { s: "text" }, 12_345_678_901_234_567_890n, null]),
    );
  });
});
