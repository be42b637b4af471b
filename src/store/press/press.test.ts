import { randomBytes } from "node:crypto";
import { readFileSync } from "node:fs";
import { createServer } from "node:http";
import fc from "fast-check";
import { describe, expect, it } from "vitest";
import { PackMemory } from "../packs/pack-memory";
import { deriveStoreKeys } from "../seal/keys";
import { headerOf, paddedLength, unseal } from "../seal/sealing";
import { makeScratch, pressBlock } from "./block";
import { type Compressor, compressorOf, looksDense, packageCompressor } from "./compressor";
import { joined } from "./press";

const kinds: [string, Compressor][] = [
  ["the system's library", compressorOf(true)],
  ["the system's library in a thread of its own", compressorOf(false)],
  ["the package", packageCompressor],
];

describe.each(kinds)("compressing with %s", (_name, compressor) => {
  it("gives back what it was given, at any level, or says that it does not shrink", async () => {
    const content = fc.oneof(
      fc.uint8Array({ minLength: 1, maxLength: 5000 }),
      fc
        .tuple(fc.nat(255), fc.integer({ min: 1, max: 300_000 }))
        .map(([byte, n]) => new Uint8Array(n).fill(byte)),
    );
    await fc.assert(
      fc.asyncProperty(content, fc.constantFrom(1, 9), async (raw, level) => {
        const packed = await compressor.compress(Buffer.from(raw), level);
        if (packed === null) return;
        expect(packed.length).toBeLessThan(raw.length);
        expect(Buffer.compare(await compressor.decompress(packed, raw.length), raw)).toBe(0);
      }),
      { numRuns: 60 },
    );
    expect(await compressor.compress(randomBytes(10_000), 1)).toBeNull();
  });

  it("refuses what is cut, altered or of another length, and never gives more than was asked for", async () => {
    const raw = Buffer.from("the tide tables of the quay ".repeat(4000));
    const packed = (await compressor.compress(raw, 1))!;
    for (const [wrong, length] of [
      [packed.subarray(0, packed.length - 3), raw.length],
      [randomBytes(200), 200],
      [packed, raw.length - 1],
      [packed, raw.length + 1],
    ] as const)
      await expect(compressor.decompress(wrong, length)).rejects.toMatchObject({ code: "store.damaged" });
  });

  it("is read by the other kinds", async () => {
    const raw = readFileSync("package.json");
    const packed = (await compressor.compress(raw, 9))!;
    for (const [, other] of kinds)
      expect((await other.decompress(packed, raw.length)).equals(raw)).toBe(true);
  });
});

describe("telling what cannot be compressed", () => {
  it("knows random bytes from text, programs and pictures of text", () => {
    expect(looksDense(randomBytes(1_000_000))).toBe(true);
    expect(looksDense(Buffer.from(createServer.toString().repeat(500)))).toBe(false);
    expect(looksDense(readFileSync(process.execPath).subarray(0, 4_000_000))).toBe(false);
    expect(looksDense(randomBytes(100))).toBe(false);
  });
});

describe("parts of a block", () => {
  it("become one where they lie one after another, and stay the same bytes in the same order", () => {
    fc.assert(
      fc.property(
        fc.array(fc.tuple(fc.nat(2), fc.nat(40), fc.nat(12)), { maxLength: 12 }),
        fc.boolean(),
        (wishes, adjacent) => {
          const memories = [0, 1, 2].map((n) => new Uint8Array(64).map((_, i) => n * 64 + i));
          let end = 0;
          const parts = wishes.map(([memory, from, length]) => {
            const at = adjacent ? Math.min(end, 64) : from;
            const part = memories[adjacent ? 0 : memory]!.subarray(at, at + length);
            end = at + part.length;
            return part;
          });
          const runs = joined(parts);
          expect(Buffer.concat(runs).equals(Buffer.concat(parts))).toBe(true);
          if (adjacent) expect(runs.length).toBeLessThanOrEqual(1);
        },
      ),
    );
  });
});

describe("a pressed block", () => {
  it("opens at its place alone, padded, in the pack's memory or its own", async () => {
    const keys = deriveStoreKeys(randomBytes(32));
    const id = randomBytes(16);
    const header = headerOf("pack", id);
    const parts = [Buffer.from("salt"), Buffer.from("row".repeat(9000))];
    const raw = Buffer.concat(parts);
    for (const room of [100_000, 10]) {
      const memory = new PackMemory(new SharedArrayBuffer(64 + room));
      expect(memory.take(3)).toBe(0);
      const block = await pressBlock(
        { parts, level: 1, key: keys.objectKey(id), header, place: 7, memory },
        compressorOf(false),
        makeScratch(),
      );
      const { lies, sealedLength, packedLength } = block;
      expect(lies).toEqual(room === 10 ? expect.any(Uint8Array) : 3);
      const sealed = typeof lies === "number" ? memory.bytes.subarray(lies, lies + sealedLength) : lies;
      expect(sealed.length).toBe(paddedLength(packedLength) + 16);
      const opened = unseal(keys.objectKey(id), 7, header, sealed).subarray(0, packedLength);
      expect((await packageCompressor.decompress(opened, raw.length)).equals(raw)).toBe(true);
      expect(() => unseal(keys.objectKey(id), 8, header, sealed)).toThrow(/does not open/);
    }
  });
});
