import { randomBytes } from "node:crypto";
import { rmSync, writeFileSync } from "node:fs";
import { join } from "node:path";
import { afterAll, beforeAll, describe, expect, it } from "vitest";
import { all } from "@/db/base/scope";
import type { Depot } from "@/db/depots/depots";
import { purgeAll } from "@/runs/purge";
import { applyRetention } from "@/runs/retention";
import type { Services } from "@/server/base/services";
import type { Places } from "@/server/depots/places";
import { backUp, enrolMachine, makeClient, restore, type TestClient, type TestMachine } from "../client";
import { FAILURES, FailingPlace, type Failure } from "../failing-place";
import { describeTree } from "../same-tree";
import { TestConsole } from "../test-console";
import { expectWholeSpace } from "../whole-space";

let console_: TestConsole;
let client: TestClient;
let machine: TestMachine;
const system = <T extends object>(sql: string, values: unknown[] = []) =>
  console_.services.db.withScope({ role: "system" }, (tx) => all<T>(tx, sql, values));

beforeAll(async () => {
  console_ = await TestConsole.start();
  client = await makeClient(console_, "Saltrow Ferries", {
    clauses: { howLong: { kind: "last", count: 1 } },
  });
  machine = await enrolMachine(console_, client, "salt-ship-01");
  console_.runAgent(machine.state);
});
afterAll(() => console_?.stop());

/** The same services, with a depot that fails once. */
function failing(at: number, how: Failure): { services: Services; changes: () => number } {
  const made: FailingPlace[] = [];
  const places = {
    of: (depot: Depot) => {
      const place = new FailingPlace(console_.services.places.of(depot), at, how);
      made.push(place);
      return place;
    },
  } as unknown as Places;
  return {
    services: { ...console_.services, places },
    changes: () => Math.max(0, ...made.map((one) => one.changes)),
  };
}

/** Makes a point and lets the one before it leave: a pack of which little stays, and one of which nothing does. */
async function somethingToPurge(round: number): Promise<void> {
  const data = join(machine.root, "data");
  for (let i = 0; i < 12; i += 1) writeFileSync(join(data, `crate ${i}`), randomBytes(30_000));
  expect((await backUp(console_, machine.sourceId)).outcome).toBe("clean");
  for (let i = 2; i < 12; i += 1) rmSync(join(data, `crate ${i}`));
  writeFileSync(join(data, "log"), `round ${round}`);
  expect((await backUp(console_, machine.sourceId)).outcome).toBe("clean");
  await applyRetention(console_.services, machine.sourceId);
  await system(
    "update points set purge_after = now() - interval '1 minute' where purge_after is not null and purged_at is null",
  );
  await aged();
}
const aged = () => system("update packs set used_at = used_at - interval '1 hour'");

/** Everything in the depot is known, everything known is there and whole, and the newest point restores. */
async function allIsWell(round: string): Promise<void> {
  const points = await expectWholeSpace(console_.services, client.id, client.depotId, round);
  const run = await restore(console_, {
    items: [{ pointId: points[0]!.id, path: "/data" }],
    destination: { kind: "folder", folder: `/back-${round}` },
    clash: "keep-both",
  });
  expect(run.outcome, round).toBe("clean");
  expect(describeTree(join(machine.root, `back-${round}/data`)), round).toEqual(
    describeTree(join(machine.root, "data")),
  );
}

describe("a purge whose depot fails at its n-th change", () => {
  it.each(FAILURES)("%s: nothing listed is harmed, and the next purge leaves nothing behind", async (how) => {
    let last = Number.POSITIVE_INFINITY;
    for (let n = 1; n <= last; n += 1) {
      await somethingToPurge(n);
      const { services, changes } = failing(n, how);
      await purgeAll(services).catch((error) =>
        expect(["depot.full", "depot.not-reached"]).toContain(error.code),
      );
      if (changes() < n) last = n - 1;
      await aged();
      await purgeAll(console_.services);
      await allIsWell(`${how.replace(" ", "-")}-${n}`);
    }
    expect(last).toBeGreaterThanOrEqual(3);
  });
});

describe("many small packs", () => {
  const small = async () =>
    (await system<{ count: number }>("select count(*)::int as count from packs where size < 4000000"))[0]!
      .count;
  const run = async (round: number) => {
    // more files than folders, so that most of a pack stays needed
    for (let i = 0; i < 8; i += 1)
      writeFileSync(join(machine.root, "data", `entry ${round} ${i}`), randomBytes(20_000));
    expect((await backUp(console_, machine.sourceId)).outcome).toBe("clean");
    await applyRetention(console_.services, machine.sourceId);
    await system(
      "update points set purge_after = now() - interval '1 minute' where purge_after is not null and purged_at is null",
    );
    await aged();
  };

  it("are written together by a purge, unless their place keeps them", async () => {
    for (let round = 0; round < 9; round += 1) await run(round);
    const before = await small();
    expect(before).toBeGreaterThanOrEqual(9);
    await system("update packs set locked_until = now() + interval '1 day'");
    await purgeAll(console_.services);
    const kept = await small();
    expect(kept).toBeGreaterThanOrEqual(9);
    await system("update packs set locked_until = null");
    await run(9);
    await purgeAll(console_.services);
    expect(await small()).toBeLessThan(8);
    await aged();
    await system("update grants set purge_due = true");
    await purgeAll(console_.services);
    await allIsWell("together");
  });
});
