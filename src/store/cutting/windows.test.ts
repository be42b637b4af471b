import { randomBytes } from "node:crypto";
import { readFileSync } from "node:fs";
import fc from "fast-check";
import { describe, expect, it } from "vitest";
import wabt from "wabt";
import { deriveStoreKeys } from "../seal/keys";
import { CHUNK_MAX, nextCut } from "../write/chunker";
import { CUT_MODULE } from "./cut-module";
import { spreadOf } from "./spread";
import { WINDOW_BYTES, Windows } from "./windows";

const { gear } = deriveStoreKeys(Buffer.alloc(32, 3));

describe("cutting in machine code", () => {
  it("is what cut.wat says", async () => {
    const text = readFileSync(new URL("cut.wat", import.meta.url), "utf8");
    const { buffer } = (await wabt()).parseWat("cut.wat", text, { threads: true }).toBinary({});
    expect(Buffer.from(buffer).equals(CUT_MODULE)).toBe(true);
  });

  it("cuts where the chunker in plain words cuts, whatever the content", () => {
    const windows = Windows.lend(gear);
    const window = windows.take()!;
    randomBytes(WINDOW_BYTES).copy(window.bytes);
    // stretches of one byte, where no cut is found before the longest chunk
    window.bytes.fill(0, 1_000_000, 6_500_000);
    const cutsOf = (start: number, end: number, cut: (from: number) => number) => {
      const cuts: number[] = [];
      for (let from = start; from < end; from += cuts.at(-1)!) cuts.push(cut(from));
      return cuts;
    };
    fc.assert(
      fc.property(fc.nat(WINDOW_BYTES), fc.nat(WINDOW_BYTES), (a, b) => {
        const [start, end] = [Math.min(a, b), Math.max(a, b)];
        expect(cutsOf(start, end, (from) => windows.memory.cut(window.number, from, end))).toEqual(
          cutsOf(start, end, (from) => nextCut(window.bytes, from, end, gear)),
        );
      }),
      { numRuns: 30 },
    );
  });
});

describe("the spread of a sample", () => {
  it("is the same in machine code, and tells random bytes from others", () => {
    const windows = Windows.lend(gear);
    const window = windows.take()!;
    const kinds = fc.oneof(
      fc.uint8Array({ maxLength: 1500 }),
      fc
        .tuple(fc.nat(1500), fc.integer({ min: 1, max: 256 }))
        .map(([length, values]) => Uint8Array.from({ length }, (_, i) => (i * 31) % values)),
    );
    fc.assert(
      fc.property(kinds, fc.nat(WINDOW_BYTES - 1500), (bytes, at) => {
        window.bytes.set(bytes, at);
        expect(windows.memory.spread(window.number, at, bytes.length)).toBe(spreadOf(bytes));
      }),
    );
    const bits = (bytes: Uint8Array) => 10 - spreadOf(bytes) / 1024;
    expect(bits(Uint8Array.from({ length: 1024 }, (_, i) => i))).toBe(8);
    expect(bits(randomBytes(1024))).toBeGreaterThan(7.6);
    expect(bits(Buffer.from("the tide tables of the quay ".repeat(40)))).toBeLessThan(4);
    expect(bits(Buffer.alloc(1024))).toBe(0);
  });
});

describe("cutting what has not been read to its end", () => {
  it("finds the same end of a chunk as with all that follows, or none yet", () => {
    const windows = Windows.lend(gear);
    const window = windows.take()!;
    randomBytes(WINDOW_BYTES).copy(window.bytes);
    window.bytes.fill(0, 1_000_000, 6_500_000);
    fc.assert(
      fc.property(fc.nat(WINDOW_BYTES), fc.nat(WINDOW_BYTES), fc.nat(WINDOW_BYTES), (...places) => {
        const [start, middle, end] = places.sort((a, b) => a - b) as [number, number, number];
        const partly = windows.memory.cut(window.number, start, middle);
        const wholly = windows.memory.cut(window.number, start, end);
        if (partly < middle - start || partly === CHUNK_MAX) expect(partly).toBe(wholly);
        else {
          expect(wholly).toBeGreaterThanOrEqual(partly);
          // what was searched need not be searched again
          expect(windows.memory.cut(window.number, start, end, middle)).toBe(wholly);
        }
      }),
      { numRuns: 60 },
    );
  });
});

describe("windows", () => {
  it("are free again when all that lies in them is stored, and whoever waits gets one", async () => {
    const windows = Windows.lend(gear);
    const taken = Array.from({ length: 5 }, () => windows.take()!);
    expect(windows.take()).toBeNull();
    const next = windows.next();
    taken[0]!.hold();
    taken[0]!.release();
    let got = false;
    void next.then(() => {
      got = true;
    });
    await Promise.resolve();
    expect(got).toBe(false);
    taken[0]!.release();
    expect(await next).toBe(taken[0]);
  });
});
