import { createHash, randomBytes } from "node:crypto";
import fc from "fast-check";
import { describe, expect, it } from "vitest";
import { deriveStoreKeys } from "../seal/keys";
import { CHUNK_MAX, CHUNK_MIN, nextCut } from "./chunker";

const { gear } = deriveStoreKeys(Buffer.alloc(32, 7));
const cut = (data: Uint8Array, table = gear) => {
  const chunks: Uint8Array[] = [];
  for (let at = 0; at < data.length; ) {
    const length = nextCut(data, at, data.length, table);
    chunks.push(data.subarray(at, at + length));
    at += length;
  }
  return chunks;
};
const digest = (chunk: Uint8Array) => createHash("sha1").update(chunk).digest("hex");
const noise = randomBytes(24 * 1024 * 1024);

describe("cutting content into chunks", () => {
  it("loses no byte and keeps to its bounds", () => {
    fc.assert(
      fc.property(fc.nat(20_000_000), fc.nat(4_000_000), (length, from) => {
        const data = noise.subarray(from, from + length);
        const chunks = cut(data);
        expect(Buffer.concat(chunks).equals(data)).toBe(true);
        for (const chunk of chunks.slice(0, -1)) {
          expect(chunk.length).toBeGreaterThanOrEqual(CHUNK_MIN);
          expect(chunk.length).toBeLessThanOrEqual(CHUNK_MAX);
        }
      }),
      { numRuns: 25 },
    );
  });

  it("finds the same chunks again after bytes were put in", () => {
    const before = cut(noise).map(digest);
    const after = cut(
      Buffer.concat([noise.subarray(0, 9_000_000), Buffer.from("a line"), noise.subarray(9_000_000)]),
    ).map(digest);
    const known = new Set(before);
    expect(after.filter((id) => !known.has(id)).length).toBeLessThanOrEqual(3);
  });

  it("averages about a mebibyte", () => {
    const chunks = cut(noise);
    const average = noise.length / chunks.length / 1024 ** 2;
    expect(average).toBeGreaterThan(0.6);
    expect(average).toBeLessThan(1.8);
  });

  it("cuts elsewhere with another client's key", () => {
    const other = deriveStoreKeys(Buffer.alloc(32, 8)).gear;
    expect(cut(noise, other).map((chunk) => chunk.length)).not.toEqual(
      cut(noise).map((chunk) => chunk.length),
    );
  });
});
