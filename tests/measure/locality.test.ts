import { randomBytes } from "node:crypto";
import { mkdirSync, readFileSync, rmSync, writeFileSync } from "node:fs";
import { join } from "node:path";
import { afterAll, beforeAll, expect, it } from "vitest";
import { all } from "@/db/base/scope";
import { purgeAll } from "@/runs/purge";
import { applyRetention } from "@/runs/retention";
import { backUp, enrolMachine, makeClient, restore, type TestClient, type TestMachine } from "../client";
import { TestConsole } from "../test-console";

/**
 * Measures, and is no part of the tests: how long the newest point takes to restore after many runs and purges, against one
 * of the same files that was made at once. `bin/bench locality`.
 */
const RUNS = Number(process.env.DEEPKEEP_RUNS ?? 100);
const FILES = 4000;
const CHANGED = FILES / 50;
const ROUNDS = 5;

let console_: TestConsole;
const system = <T extends object>(sql: string, values: unknown[] = []) =>
  console_.services.db.withScope({ role: "system" }, (tx) => all<T>(tx, sql, values));
beforeAll(async () => {
  console_ = await TestConsole.start();
});
afterAll(() => console_?.stop());

const fileOf = (machine: TestMachine, i: number) => join(machine.root, `data/folder ${i % 40}/file ${i}`);
const sizeOf = (i: number) => 4_000 + ((i * 7919) % 44_000);
const peakOf = (pid: number) =>
  Number(/VmHWM:\s+(\d+)/.exec(readFileSync(`/proc/${pid}/status`, "utf8"))![1]) / 1024;

async function made(name: string): Promise<{ client: TestClient; machine: TestMachine; pid: number }> {
  const client = await makeClient(console_, name, { clauses: { howLong: { kind: "last", count: 7 } } });
  const machine = await enrolMachine(console_, client, `${client.slug}-srv`);
  return { client, machine, pid: console_.runAgent(machine.state).pid! };
}
/** Seconds of the quickest of several restores, of all of the newest point into a new folder. */
async function restoreSeconds({ machine }: { machine: TestMachine }, rounds = ROUNDS): Promise<number> {
  const { points } = await console_.ok<{ points: { id: string }[] }>(
    "GET",
    `/sources/${machine.sourceId}/recovery-points`,
  );
  const seconds: number[] = [];
  for (let round = 0; round < rounds; round += 1) {
    const begun = performance.now();
    const run = await restore(console_, {
      items: [{ pointId: points[0]!.id, path: "/data" }],
      destination: { kind: "folder", folder: `/back ${round}` },
      clash: "keep-both",
    });
    seconds.push((performance.now() - begun) / 1000);
    expect(run.outcome).toBe("clean");
    rmSync(join(machine.root, `back ${round}`), { recursive: true });
  }
  return Math.min(...seconds);
}
async function dayPasses(machine: TestMachine): Promise<void> {
  await applyRetention(console_.services, machine.sourceId);
  await system(
    "update points set purge_after = now() - interval '1 minute' where purge_after is not null and purged_at is null",
  );
  await system("update packs set used_at = used_at - interval '1 day'");
  await purgeAll(console_.services);
}

it(`restores after ${RUNS} runs with 2 % of ${FILES} files changed in each, and a purge after each`, async () => {
  const old = await made("Saltrow Ferries");
  for (let i = 0; i < FILES; i += 1) {
    mkdirSync(join(fileOf(old.machine, i), ".."), { recursive: true });
    writeFileSync(fileOf(old.machine, i), randomBytes(sizeOf(i)));
  }
  let next = 0;
  for (let run = 0; run < RUNS; run += 1) {
    for (let i = 0; i < CHANGED; i += 1) {
      // files of all folders, each in its turn
      next = (next + 1237) % FILES;
      writeFileSync(fileOf(old.machine, next), randomBytes(sizeOf(next)));
    }
    expect((await backUp(console_, old.machine.sourceId)).outcome).toBe("clean");
    await dayPasses(old.machine);
  }
  const fresh = await made("Kestrin Aquaculture");
  for (let i = 0; i < FILES; i += 1) {
    mkdirSync(join(fileOf(fresh.machine, i), ".."), { recursive: true });
    writeFileSync(fileOf(fresh.machine, i), readFileSync(fileOf(old.machine, i)));
  }
  expect((await backUp(console_, fresh.machine.sourceId)).outcome).toBe("clean");
  // in turns, so that the machine's other work meets both
  let [oldBest, freshBest] = [Number.POSITIVE_INFINITY, Number.POSITIVE_INFINITY];
  for (let turn = 0; turn < 3; turn += 1) {
    oldBest = Math.min(oldBest, await restoreSeconds(old, 2));
    freshBest = Math.min(freshBest, await restoreSeconds(fresh, 2));
  }
  const [packs] = await system<{ old: number; fresh: number }>(
    `select (select count(*)::int from packs where client_id = $1) as old, (select count(*)::int from packs where client_id = $2) as fresh`,
    [old.client.id, fresh.client.id],
  );
  console.log(
    JSON.stringify({
      runs: RUNS,
      files: FILES,
      oldSeconds: oldBest.toFixed(2),
      freshSeconds: freshBest.toFixed(2),
      ratio: (oldBest / freshBest).toFixed(2),
      wanted: 1.5,
      packs,
      agentPeakMiB: Math.round(peakOf(old.pid)),
      freshAgentPeakMiB: Math.round(peakOf(fresh.pid)),
      runnerPeakMiB: Math.round(peakOf(console_.runnerPid())),
      wantedMiB: 400,
    }),
  );
}, 3_600_000);
