import { randomBytes } from "node:crypto";
import { mkdirSync, rmSync, writeFileSync } from "node:fs";
import { join } from "node:path";
import { setTimeout as pause } from "node:timers/promises";
import { afterAll, beforeAll, describe, expect, it } from "vitest";
import { all } from "@/db/base/scope";
import { purgeAll } from "@/runs/purge";
import { applyRetention } from "@/runs/retention";
import { checkSpace } from "@/store/read/check";
import { backUp, enrolMachine, makeClient, restore, type TestClient, type TestMachine } from "../client";
import { describeTree } from "../same-tree";
import { keyOfSheet, readDepot } from "../second-reader";
import { TestConsole } from "../test-console";

/** How long everything goes on at once. */
const SECONDS = 60;

let console_: TestConsole;
let client: TestClient;
let machines: TestMachine[];
const system = <T extends object>(sql: string, values: unknown[] = []) =>
  console_.services.db.withScope({ role: "system" }, (tx) => all<T>(tx, sql, values));

beforeAll(async () => {
  console_ = await TestConsole.start();
  client = await makeClient(console_, "Saltrow Ferries", {
    clauses: { howLong: { kind: "last", count: 3 } },
  });
  machines = [
    await enrolMachine(console_, client, "salt-ship-01"),
    await enrolMachine(console_, client, "salt-ship-02"),
  ];
  for (const machine of machines) console_.runAgent(machine.state);
});
afterAll(() => console_?.stop());

/** Changes a machine: what both have in common, what comes and goes, and what grows. */
function work(machine: TestMachine, round: number): void {
  const data = join(machine.root, "data");
  mkdirSync(join(data, `voyage ${round % 4}`), { recursive: true });
  writeFileSync(join(data, `voyage ${round % 4}`, "manifest"), randomBytes(400_000));
  writeFileSync(join(data, "tide table"), Buffer.alloc(700_000, round % 5));
  for (let i = 0; i < 20; i += 1)
    writeFileSync(join(data, `ticket ${(round * 7 + i) % 60}`), `${round} ${i}`);
  if (round % 3 === 0) rmSync(join(data, `voyage ${(round + 2) % 4}`), { recursive: true, force: true });
}

describe("two agents, a purge and a restore at the same time on one depot", () => {
  it(`goes on for ${SECONDS} seconds; afterwards all that is listed is whole`, async () => {
    for (const machine of machines) {
      work(machine, 0);
      await backUp(console_, machine.sourceId);
    }
    const until = performance.now() + SECONDS * 1000;
    const done = { runs: 0, purges: 0, freed: 0, restores: 0, points: 0 };
    const goOn = () => performance.now() < until;
    const keeping = async (machine: TestMachine) => {
      for (let round = 1; goOn(); round += 1) {
        work(machine, round);
        expect(await backUp(console_, machine.sourceId)).toMatchObject({ outcome: "clean" });
        done.runs += 1;
      }
    };
    const purging = async () => {
      while (goOn()) {
        for (const machine of machines) await applyRetention(console_.services, machine.sourceId);
        await system(
          "update points set purge_after = now() - interval '1 minute' where purge_after is not null and purged_at is null",
        );
        done.freed += await purgeAll(console_.services);
        done.purges += 1;
        await pause(50);
      }
    };
    const restoring = async () => {
      for (let round = 0; goOn(); round += 1) {
        const machine = machines[round % 2]!;
        const { points } = await console_.ok<{ points: { id: string; droppedAt: string | null }[] }>(
          "GET",
          `/sources/${machine.sourceId}/recovery-points`,
        );
        const point = points.find((one) => one.droppedAt === null)!;
        const asked = await console_.call<{ run: { id: string } }>("POST", "/restores", {
          items: [{ pointId: point.id, path: "/data" }],
          destination: { kind: "folder", folder: `/back ${round}` },
          clash: "keep-both",
        });
        if (asked.status === 404) continue; // purged between the list and the wish
        const run = await console_.runEnds(asked.body.run.id);
        expect(run).toMatchObject({ outcome: "clean" });
        rmSync(join(machine.root, `back ${round}`), { recursive: true });
        done.restores += 1;
      }
    };
    await Promise.all([keeping(machines[0]!), keeping(machines[1]!), purging(), restoring()]);
    // what the minute left over goes now
    await system("update packs set used_at = used_at - interval '1 hour'");
    done.freed += await purgeAll(console_.services);
    expect(done.runs).toBeGreaterThan(10);
    expect(done.restores).toBeGreaterThan(5);
    expect(done.freed).toBeGreaterThan(1_000_000);

    const [grant] = await system<{ spaceId: string; usedBytes: number }>(
      `select space_id as "spaceId", used_bytes as "usedBytes" from grants where client_id = $1`,
      [client.id],
    );
    const points = await system<{ id: Buffer; root: Buffer; size: number; sourceId: string }>(
      `select id, root, object_bytes as size, source_id as "sourceId" from points where purged_at is null order by moment desc`,
    );
    const packs = await system<{ id: Buffer; size: number }>("select id, size from packs");
    const depot = (await system<{ id: string }>("select id from depots"))[0]!;
    expect(depot.id).toBe(client.depotId);
    const place = console_.services.places.of(
      (
        await system<Parameters<typeof console_.services.places.of>[0]>(
          `select id, name, kind, path, settings, secret, region, capacity_bytes as "capacityBytes", direct from depots`,
        )
      )[0]!,
    );
    const checked = await checkSpace({
      keys: await console_.services.spaces.keys(client.id),
      place,
      spaceId: grant!.spaceId,
      depth: "bytes",
      packs: packs.map(({ id, size }) => ({ id: id.toString("hex"), size })),
      points: points.map(({ id, root, size }) => ({ id: id.toString("hex"), root, size })),
    });
    expect([checked.findings, checked.touched]).toEqual([[], []]);
    // every listed point opens with the key alone, and nothing else lies there
    const read = readDepot(client.depotPath, keyOfSheet(client.groups));
    expect(read.map((point) => point.id).sort()).toEqual(points.map(({ id }) => id.toString("hex")).sort());
    for (const point of read) expect((await point.entries()).length).toBeGreaterThan(20);
    for (const machine of machines) {
      const newest = points.find((point) => point.sourceId === machine.sourceId)!;
      await restore(console_, {
        items: [{ pointId: newest.id.toString("hex"), path: "/data" }],
        destination: { kind: "folder", folder: "/at the end" },
        clash: "keep-both",
      });
      expect(describeTree(join(machine.root, "at the end/data"))).toEqual(
        describeTree(join(machine.root, "data")),
      );
    }
  });
});
