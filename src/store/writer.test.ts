import { randomBytes } from "node:crypto";
import { setTimeout as pause } from "node:timers/promises";
import { expect, test } from "vitest";
import { deriveStoreKeys } from "./keys";
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
