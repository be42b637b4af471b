import { setTimeout as pause } from "node:timers/promises";
import { afterAll, beforeAll, describe, expect, it } from "vitest";
import { nightOf } from "@/core/protection/nights";
import { all } from "@/db/base/scope";
import { machineById } from "@/db/sources/machines";
import { dueSources } from "@/db/sources/sources";
import { nextJob } from "@/runs/agent-desk";
import { takeUpLapsed, tickSchedules } from "@/runs/tick";
import type { Services } from "@/server/base/services";
import { enrolMachine, makeClient, type TestClient, type TestMachine } from "../client";
import { TestConsole } from "../test-console";

/** Schedules and leases under a clock that the test sets. The console's own runner rests. */
let console_: TestConsole;
let client: TestClient;
const machines: TestMachine[] = [];
let clock = new Date("2027-02-01T12:00:00Z");
let services: Services;

beforeAll(async () => {
  console_ = await TestConsole.start();
  await console_.killRunner();
  services = { ...console_.services, now: () => clock };
  client = await makeClient(console_, "Pendlewick Housing Trust");
  for (let i = 0; i < 6; i += 1) machines.push(await enrolMachine(console_, client, `pend-lt-0${i}`));
  const { policy } = await console_.ok<{ policy: { name: string; clauses: object } }>(
    "GET",
    `/policies/${client.policyId}`,
  );
  await console_.ok("PUT", `/policies/${client.policyId}`, {
    name: policy.name,
    revision: 1,
    clauses: {
      ...policy.clauses,
      when: { schedules: [{ rule: "FREQ=DAILY;BYHOUR=21;BYMINUTE=30" }], targetHours: 24 },
    },
  });
  await system("update sources set next_due_at = '2027-02-01T21:30:00Z'");
});
afterAll(() => console_?.stop());

const system = <Row = Record<string, unknown>>(sql: string, values: unknown[] = []) =>
  console_.services.db.withScope({ role: "system" }, (tx) => all<Row>(tx, sql, values));
const runs = () =>
  system<{ state: string; outcome: string | null; due: Date }>(
    "select state, outcome, due_at as due from runs order by due_at",
  );

describe("schedules", () => {
  it("make nothing before their time", async () => {
    expect(await tickSchedules(services)).toBe(0);
  });

  it("make one run for each source, however many tick at once", async () => {
    clock = new Date("2027-02-01T21:30:05Z");
    const made = await Promise.all([1, 2, 3, 4].map(() => tickSchedules(services)));
    expect(made.reduce((a, b) => a + b, 0)).toBe(6);
    expect(await runs()).toHaveLength(6);
    const next = await system<{ at: Date }>("select distinct next_due_at as at from sources");
    expect(next.map((row) => row.at.toISOString())).toEqual(["2027-02-02T21:30:00.000Z"]);
  });

  it("give a run to one of several that ask", async () => {
    const machine = (await console_.services.db.withScope({ role: "system" }, (tx) =>
      machineById(tx, machines[0]!.machineId),
    ))!;
    const jobs = await Promise.all([1, 2, 3, 4].map(() => nextJob(services, machine, ["backup"])));
    expect(jobs.filter(Boolean)).toHaveLength(1);
  });

  it("tell what was missed when the next time comes, and keep one waiting", async () => {
    clock = new Date("2027-02-02T21:30:05Z");
    await tickSchedules(services);
    const missed = (await runs()).filter((run) => run.outcome === "missed");
    expect(missed).toHaveLength(5);
    expect((await runs()).filter((run) => run.state === "due")).toHaveLength(6);
  });

  it("make a single run for many times that passed while the console was off", async () => {
    const before = (await runs()).length;
    clock = new Date("2027-02-12T08:00:00Z");
    await tickSchedules(services);
    expect((await runs()).length - before).toBe(6);
  });

  it("leave paused sources and removed machines alone", async () => {
    await console_.ok("PATCH", `/sources/${machines[1]!.sourceId}`, { paused: true });
    await console_.ok("DELETE", `/connections/${machines[2]!.machineId}`);
    const before = (await runs()).length;
    clock = new Date("2027-02-13T08:00:00Z");
    await tickSchedules(services);
    expect((await runs()).length - before).toBe(4);
  });

  it("make no run while the client's key is not confirmed or was destroyed, and go on to the next time", async () => {
    const [{ sealed }] = (await system<{ sealed: Buffer }>("select sealed from client_keys")) as [
      { sealed: Buffer },
    ];
    for (const [unusable, day] of [
      ["confirmed_at = null", 14],
      ["destroyed_at = now(), sealed = null", 15],
    ] as const) {
      await system(`update client_keys set ${unusable}`);
      const before = (await runs()).length;
      clock = new Date(`2027-02-${day}T08:00:00Z`);
      expect(await tickSchedules(services)).toBe(0);
      expect(await runs()).toHaveLength(before);
      expect(await system("select from sources where next_due_at <= $1 and not paused", [clock])).toEqual([]);
      await system("update client_keys set confirmed_at = now(), destroyed_at = null, sealed = $1", [sealed]);
    }
  });

  it("leave a run waiting that a person asked for: it is neither missed nor asked for twice", async () => {
    const { sourceId } = machines[4]!;
    await system("update runs set cause = 'person' where source_id = $1 and state = 'due'", [sourceId]);
    const ofSource = () =>
      system<{ state: string; outcome: string | null }>(
        "select id, state, outcome from runs where source_id = $1 order by id",
        [sourceId],
      );
    const before = await ofSource();
    expect(before.filter(({ state }) => state === "due")).toHaveLength(1);
    clock = new Date("2027-02-16T08:00:00Z");
    expect(await tickSchedules(services)).toBe(3);
    expect(await ofSource()).toEqual(before);
    await system("update runs set cause = 'schedule' where source_id = $1 and state = 'due'", [sourceId]);
  });

  it("pass over what another ticker has in hand, and do not wait for it", async () => {
    clock = new Date("2027-02-17T08:00:00Z");
    const tried = await console_.services.db.withScope({ role: "system" }, async (tx) => {
      const held = await dueSources(tx, clock);
      expect(held.length).toBeGreaterThan(3);
      const other = console_.services.db.withScope({ role: "system" }, (tx2) => dueSources(tx2, clock));
      return Promise.race([other, pause(3000, "waits" as const)]);
    });
    expect(tried).toEqual([]);
  });
});

describe("leases", () => {
  it("bring a run back when its machine falls silent, three times, and then give it up", async () => {
    const machine = (await console_.services.db.withScope({ role: "system" }, (tx) =>
      machineById(tx, machines[3]!.machineId),
    ))!;
    let runId = "";
    for (let attempt = 1; attempt <= 3; attempt += 1) {
      const job = (await nextJob(services, machine, ["backup"]))!;
      expect(job.attempt).toBe(attempt);
      runId = job.runId;
      clock = new Date(clock.getTime() + 30_000);
      expect(await takeUpLapsed(services)).toBeGreaterThanOrEqual(0);
      clock = new Date(clock.getTime() + 61_000);
      expect(await takeUpLapsed(services)).toBeGreaterThanOrEqual(1);
    }
    const [run] = await system<{ outcome: string; code: string }>(
      "select outcome, code from runs where id = $1",
      [runId],
    );
    expect(run).toEqual({ outcome: "failed", code: "run.given-up" });
    const log = await system<{ code: string }>("select code from run_log where run_id = $1", [runId]);
    expect(log.filter((line) => line.code === "machine.lost-run")).toHaveLength(2);
  });
});

describe("the night of a run", () => {
  it("is the same in the database as in the core, in any zone, over changes of the clock", async () => {
    const { services } = console_;
    const zones = ["Europe/London", "Pacific/Auckland", "America/St_Johns", "Asia/Kolkata", "UTC"];
    const moments = Array.from({ length: 400 }, (_, i) => new Date(Date.UTC(2026, 9, 20) + i * 3_700_000));
    for (const zone of zones) {
      const rows = await services.db.withScope({ role: "system" }, (tx) =>
        all<{ night: string }>(
          tx,
          `select to_char(night_of(m, $2), 'YYYY-MM-DD') as night from unnest($1::timestamptz[]) with ordinality u(m, n) order by n`,
          [moments, zone],
        ),
      );
      expect(rows.map((row) => row.night)).toEqual(moments.map((moment) => nightOf(moment, zone)));
    }
  });
});
