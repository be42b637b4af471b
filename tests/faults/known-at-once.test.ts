import { randomBytes } from "node:crypto";
import { afterAll, beforeAll, describe, expect, it } from "vitest";
import { all } from "@/db/base/scope";
import { insertPack, knownChunks } from "@/db/points/chunks";
import { makeClient, type TestClient } from "../client";
import { TestConsole } from "../test-console";

const PACKS = 40;
const ASKING = 16;
const ROUNDS = 12;

describe("runs of one client that begin at the same time", () => {
  let console_: TestConsole;
  let client: TestClient;
  beforeAll(async () => {
    console_ = await TestConsole.start();
    client = await makeClient(console_, "Quillhaven");
  });
  afterAll(() => console_.stop());

  it("ask for the same chunks, whose use was noted long ago, and none of them waits for another in a circle", async () => {
    const { db } = console_.services;
    const system = { role: "system" } as const;
    const begun = new Date();
    const { spaceId, ids } = await db.withScope(system, async (tx) => {
      const [grant] = await all<{ spaceId: string }>(
        tx,
        `select space_id as "spaceId" from grants where client_id = $1`,
        [client.id],
      );
      const all_: Buffer[] = [];
      for (let pack = 0; pack < PACKS; pack += 1) {
        const own = Array.from({ length: 3 }, () => randomBytes(32));
        all_.push(...own);
        const holds = { ids: own, contentBytes: 3000 };
        const { spaceId } = grant!;
        await insertPack(tx, { spaceId, clientId: client.id, id: randomBytes(16), size: 3000, holds }, begun);
      }
      return { spaceId: grant!.spaceId, ids: all_ };
    });
    const missing = randomBytes(32);
    for (let round = 1; round <= ROUNDS; round += 1) {
      const now = new Date(begun.getTime() + round * 61_000);
      const answers = await Promise.all(
        Array.from({ length: ASKING }, (_, i) => {
          // each asks for others, in an order of its own
          const asked = ids.filter((_id, n) => (n + i) % 5 > 0).sort(() => Math.random() - 0.5);
          return db.withScope(system, (tx) => knownChunks(tx, spaceId, [...asked, missing], now));
        }),
      );
      for (const answer of answers) {
        expect(answer.at(-1)).toBe(false);
        expect(answer.slice(0, -1).every(Boolean)).toBe(true);
      }
      const noted = await db.withScope(system, (tx) =>
        all<{ usedAt: Date }>(tx, `select used_at as "usedAt" from packs where space_id = $1`, [spaceId]),
      );
      expect(noted.every(({ usedAt }) => usedAt.getTime() === now.getTime())).toBe(true);
    }
  });
});
