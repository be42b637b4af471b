import { randomBytes } from "node:crypto";
import { Worker } from "node:worker_threads";
import fc from "fast-check";
import { describe, expect, it } from "vitest";
import { openBlock } from "../press/block";
import { compressor } from "../press/compressor";
import { inlinePress } from "../press/press";
import { deriveStoreKeys } from "../seal/keys";
import { openPack, PackBuilder } from "./pack";
import { PackMemory } from "./pack-memory";

describe("the memory of a pack", () => {
  it("is taken without gaps from its beginning on, until something does not fit, and less may fit still", () => {
    fc.assert(
      fc.property(fc.array(fc.integer({ min: 1, max: 40 }), { maxLength: 30 }), (lengths) => {
        const memory = new PackMemory(new SharedArrayBuffer(64 + 300));
        let end = 0;
        for (const length of lengths) {
          const fits = end + length <= 300;
          expect(memory.take(length)).toBe(fits ? end : null);
          if (fits) end += length;
          expect(memory.taken).toBe(end);
        }
        memory.clear();
        expect(memory.take(300)).toBe(0);
      }),
    );
  });

  it("gives no byte to two threads", async () => {
    const memory = new PackMemory(new SharedArrayBuffer(64 + 4_000_000));
    // the same two lines of `take`, since sources are not built where unit tests run
    const program = `
      const { parentPort, workerData: { shared, own } } = require("node:worker_threads");
      const count = new Int32Array(shared, 0, 1);
      const bytes = new Uint8Array(shared, 64);
      for (let i = 0; i < 20000; i += 1) {
        const length = 1 + (i * own) % 97;
        let at = Atomics.load(count, 0);
        for (let before; (before = Atomics.compareExchange(count, 0, at, at + length)) !== at; ) at = before;
        for (let k = 0; k < length; k += 1) bytes[at + k] += own;
      }
      parentPort.postMessage("done");`;
    const workers = [3, 5].map(
      (own) => new Worker(program, { eval: true, workerData: { shared: memory.shared, own } }),
    );
    const ended = Promise.all(workers.map((worker) => new Promise((end) => worker.once("exit", end))));
    const mine = new Set<number>();
    for (let i = 0; i < 20_000; i += 1) {
      const at = memory.take(2)!;
      memory.bytes[at]! += 9;
      memory.bytes[at + 1]! += 9;
      mine.add(at);
      if (i % 1000 === 0) await new Promise(setImmediate);
    }
    await ended;
    const written = memory.bytes.subarray(0, memory.taken);
    // each byte was written by one of the three, once
    expect(written.every((byte) => byte === 3 || byte === 5 || byte === 9)).toBe(true);
    expect(written.reduce((sum, byte) => sum + Number(byte === 9), 0)).toBe(2 * mine.size);
  });
});

describe("a pack that grows beyond its memory", () => {
  it("is whole all the same, with blocks that lay in memory and such that did not", async () => {
    const keys = deriveStoreKeys(randomBytes(32));
    const id = randomBytes(16);
    const builder = new PackBuilder(keys, id);
    // random: they do not shrink, and the fifth to ninth find no room
    const contents = Array.from({ length: 11 }, (_, i) => randomBytes(i % 4 === 3 ? 300_000 : 8_000_000));
    const places = contents.map(() => builder.reserve());
    for (const [i, content] of contents.entries())
      builder.fill(
        places[i]!,
        await inlinePress.press({
          parts: [content],
          level: 1,
          key: builder.key,
          header: builder.header,
          place: places[i]!,
          memory: builder.memory,
        }),
        [randomBytes(32)],
        [content.length],
      );
    const bytes = Buffer.from(builder.finish());
    expect(bytes.length).toBe(builder.size);
    expect(bytes.length).toBeGreaterThan(builder.memory.bytes.length);
    const pack = await openPack(keys, id, {
      size: bytes.length,
      read: async (offset, length) => bytes.subarray(offset, offset + length),
    });
    for (const [i, content] of contents.entries()) {
      const { offset, sealedLength } = pack.blocks[i]!;
      const sealed = pack.sealedBlock(i, bytes.subarray(offset, offset + sealedLength));
      expect((await openBlock(sealed, compressor)).equals(content)).toBe(true);
    }
  });

  it("gives its memory to the next one, empty", () => {
    const keys = deriveStoreKeys(randomBytes(32));
    const first = new PackBuilder(keys, randomBytes(16));
    const { memory } = first;
    expect(memory.take(5000)).toBe(32);
    first.release();
    const next = new PackBuilder(keys, randomBytes(16));
    expect(next.memory).toBe(memory);
    expect(memory.taken).toBe(32);
    expect(memory.bytes.subarray(0, 32).equals(next.header)).toBe(true);
  });
});
