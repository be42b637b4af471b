import { randomBytes } from "node:crypto";
import { writeFileSync } from "node:fs";
import { join } from "node:path";
import { setTimeout as pause } from "node:timers/promises";
import pg from "pg";
import { afterAll, beforeAll, describe, expect, it } from "vitest";
import { all } from "@/db/base/scope";
import { S3Server } from "@/standins/s3/server";
import {
  addBucket,
  backUp,
  enrolMachine,
  makeClient,
  setClauses,
  type TestClient,
  type TestMachine,
} from "../client";
import { TestConsole, until } from "../test-console";

/** What the programs of a console do while the database is away, and what a killed runner leaves in the queue. */
let console_: TestConsole;
let client: TestClient;
let machine: TestMachine;
const system = <Row extends object>(sql: string, values: unknown[] = []) =>
  console_.services.db.withScope({ role: "system" }, (tx) => all<Row>(tx, sql, values));
/** Asks the queue's own tables. */
async function queue<Row extends object>(sql: string): Promise<Row[]> {
  const owner = new pg.Client(console_.access.owner);
  await owner.connect();
  try {
    return (await owner.query<Row>(sql)).rows;
  } finally {
    await owner.end();
  }
}

beforeAll(async () => {
  console_ = await TestConsole.start();
  console_.startViewer();
  client = await makeClient(console_, "Skerry Line");
  machine = await enrolMachine(console_, client, "sker-srv-01");
  console_.runAgent(machine.state);
  for (let i = 0; i < 1500; i += 1)
    writeFileSync(join(machine.root, `data/log-${i}`), randomBytes(20_000 + i));
  expect((await backUp(console_, machine.sourceId)).outcome).toBe("clean");
});
afterAll(() => console_?.stop());

describe("while the database is away", () => {
  it("no program ends, and a drill that was going on is done again and is not called failed", async () => {
    const { run } = await console_.ok<{ run: { id: string } }>("POST", `/sources/${machine.sourceId}/drills`);
    await until(
      async () =>
        (await console_.ok<{ run: { state: string } }>("GET", `/runs/${run.id}`)).run.state !== "due",
      "the drill does not begin",
      60_000,
    );
    await console_.killDatabase();
    await pause(5000);
    expect(console_.ended()).toEqual([]);
    await console_.startDatabase();
    await console_.healthy();
    const ended = await console_.runEnds(run.id, 150_000);
    expect(ended).toMatchObject({ outcome: "clean", attempt: 2 });
    expect(console_.ended()).toEqual([]);
    expect((await backUp(console_, machine.sourceId)).outcome).toBe("clean");
    for (const log of ["runner", "viewer", "web"])
      expect(console_.logOf(log), log).not.toMatch(/Unhandled|uncaught/i);
  });
  it("and when it is away as they start, they wait for it", async () => {
    await console_.killRunner();
    await console_.killDatabase();
    console_.startRunner();
    await pause(4000);
    await console_.startDatabase();
    await console_.healthy();
    expect(console_.ended()).toEqual([]);
    const { run } = await console_.ok<{ run: { id: string } }>("POST", `/sources/${machine.sourceId}/drills`);
    expect((await console_.runEnds(run.id, 150_000)).outcome).toBe("clean");
  });
});

describe("what a killed runner leaves in the queue", () => {
  it("is released: a check is done although a dead worker holds its job and its queue", async () => {
    await console_.killRunner();
    await console_.ok("POST", `/depots/${client.depotId}/grants/${client.id}/checks`, { depth: "objects" });
    // as a runner that was killed an hour ago leaves them; and a job that failed for good ten days ago
    await queue(`update graphile_worker._private_jobs set locked_by = 'worker-dead', locked_at = now() - interval '1 hour', attempts = 1
      where key like 'check %'`);
    await queue(
      "update graphile_worker._private_job_queues set locked_by = 'worker-dead', locked_at = now() - interval '1 hour'",
    );
    await queue(
      `select graphile_worker.add_job('look', '{}', job_key := 'dead one', run_at := now() + interval '1 day')`,
    );
    await queue(`alter table graphile_worker._private_jobs disable trigger user`);
    await queue(`update graphile_worker._private_jobs set attempts = max_attempts, updated_at = now() - interval '10 days'
      where key = 'dead one'`);
    await queue(`alter table graphile_worker._private_jobs enable trigger user`);
    console_.startRunner();
    await until(
      async () => (await system("select from checks where ended_at is null")).length === 0,
      "the check does not end",
      60_000,
    );
    expect(await queue("select from graphile_worker.jobs where key = 'dead one'")).toEqual([]);
    expect(await queue("select from graphile_worker._private_jobs where locked_by = 'worker-dead'")).toEqual(
      [],
    );
  });
  it("and a check of every byte goes on where it was, and still finds what was damaged before", async () => {
    const bucket = new S3Server();
    const endpoint = await bucket.listen();
    try {
      const depotId = await addBucket(console_, client, endpoint, { name: "Skerry bucket" });
      await setClauses(console_, client, { where: { depotId } });
      for (let i = 0; i < 12; i += 1) {
        writeFileSync(join(machine.root, `data/more-${i}`), randomBytes(300_000));
        expect((await backUp(console_, machine.sourceId)).outcome).toBe("clean");
      }
      const packs = [...bucket.objects].filter(([key]) => key.includes("/packs/")).sort();
      const first = packs.find(([, { bytes }]) => bytes.length < 1_000_000)![1];
      first.bytes.writeUInt8(first.bytes.readUInt8(1000) ^ 1, 1000);
      bucket.faults.slowMs = 150;
      const readPacks = () =>
        bucket.seen.filter((line) => line.startsWith("GET") && line.includes("/packs/"));
      const begun = readPacks().length;
      await console_.ok("POST", `/depots/${depotId}/grants/${client.id}/checks`, { depth: "bytes" });
      const verified = async () =>
        (
          await system<{ verified: { to: string } | null }>(
            "select verified from checks where ended_at is null",
          )
        )[0]?.verified;
      await until(
        async () => {
          const to = (await verified())?.to;
          return to !== undefined && packs.findIndex(([key]) => key.endsWith(to)) >= 6;
        },
        "the check does not say how far it is",
        60_000,
      );
      await console_.killRunner();
      const before = readPacks().length - begun;
      await queue(
        "update graphile_worker._private_jobs set locked_at = now() - interval '1 hour' where locked_by is not null",
      );
      await queue(
        "update graphile_worker._private_job_queues set locked_at = now() - interval '1 hour' where locked_by is not null",
      );
      await system("update runners set seen_at = seen_at - interval '1 hour'");
      bucket.faults.slowMs = 0;
      const again = readPacks().length;
      console_.startRunner();
      await until(
        async () => (await system("select from checks where ended_at is null")).length === 0,
        "the check does not end",
        60_000,
      );
      const [check] = await system<{ outcome: string; figures: { findings: number; packs: number } }>(
        "select outcome, figures from checks order by requested_at desc limit 1",
      );
      expect(check).toMatchObject({ outcome: "damage", figures: { findings: 1, packs: packs.length } });
      // of the first ones only the directories were read again, and the damaged one
      expect(before).toBeGreaterThan(10);
      const after = readPacks().slice(again);
      const timesOf = (key: string) => after.filter((line) => line.endsWith(key)).length;
      const whole = packs.slice(0, 6).filter(([, object]) => object !== first);
      const later = packs.slice(-2);
      for (const [key] of whole) expect(timesOf(key), key).toBeLessThan(timesOf(later[0]![0]));
    } finally {
      await bucket.close();
    }
  });
});
