import { randomBytes } from "node:crypto";
import { setTimeout as pause } from "node:timers/promises";
import { expect, test } from "vitest";
import { openPack } from "../packs/pack";
import { deriveStoreKeys } from "../seal/keys";
import { idKey } from "../tree/tree";
import { StoreWriter } from "./writer";

const MIB = 1024 * 1024;

test("packs do not pile up in memory before a place that is slow", async () => {
  let begun = 0;
  let stored = 0;
  let open = () => {};
  const gate = new Promise<void>((resolve) => {
    open = resolve;
  });
  const writer = new StoreWriter(
    deriveStoreKeys(randomBytes(32)),
    {
      known: async (ids) => ids.map(() => false),
      putPack: async (_id, parts) => {
        begun += 1;
        await gate;
        stored += parts.reduce((sum, part) => sum + part.length, 0);
      },
    },
    "none",
  );
  // all that a reader would add: it stops where the writer is crowded, and looks again
  let added = 0;
  for (let calm = 0; calm < 20; ) {
    if (writer.crowded) {
      calm += 1;
      await pause(20);
      continue;
    }
    calm = 0;
    writer.add("data", randomBytes(MIB));
    added += 1;
    if (added % 8 === 0) await pause(1);
  }
  // one is put, one waits, and what was under way may have ended a third
  expect(begun).toBeLessThanOrEqual(3);
  expect(added).toBeLessThan(100);
  open();
  const { newChunks, packs } = await writer.close();
  expect([newChunks, packs]).toEqual([added, begun]);
  expect(stored).toBeGreaterThan(added * MIB);
});

test("of files of a few bytes a block is full with 16,384, and what came long before is asked of the place", async () => {
  const stored = new Set<string>();
  const asked = new Map<string, number>();
  const longest: number[] = [];
  const packs: number[] = [];
  const keys = deriveStoreKeys(randomBytes(32));
  const writer = new StoreWriter(
    keys,
    {
      known: async (ids) =>
        ids.map((id) => {
          const key = idKey(id);
          asked.set(key, (asked.get(key) ?? 0) + 1);
          return stored.has(key);
        }),
      putPack: async (packId, parts, { ids }) => {
        const bytes = Buffer.concat(parts);
        const pack = await openPack(keys, packId, {
          size: bytes.length,
          read: async (offset, length) => bytes.subarray(offset, offset + length),
        });
        longest.push(...pack.blocks.map(({ lengths }) => lengths.length));
        packs.push(ids.length);
        for (const id of ids) stored.add(idKey(id));
      },
    },
    "none",
  );
  const chunk = (number: number) => {
    const bytes = Buffer.alloc(8);
    bytes.writeUInt32LE(number);
    return bytes;
  };
  const first = writer.add("data", chunk(0));
  const many = 530_000;
  for (let number = 1; number < many; number += 1) {
    writer.add("data", chunk(number));
    // again at once: nobody is asked
    if (number % 1000 === 0) writer.add("data", chunk(number));
    if (writer.crowded || number % 50_000 === 0) await writer.drain();
  }
  await writer.flush();
  expect(writer.add("data", chunk(0))).toEqual(first);
  const { newChunks } = await writer.close();
  expect(newChunks).toBe(many);
  expect(stored.size).toBe(many);
  expect([...asked.values()].filter((times) => times > 1)).toEqual([2]);
  expect(asked.get(idKey(first))).toBe(2);
  expect(Math.max(...longest)).toBe(16_384);
  // what is pressed when a pack is full still goes into it
  expect(Math.max(...packs)).toBeLessThan(100_000);
  expect(packs.length).toBeGreaterThan(4);
});
