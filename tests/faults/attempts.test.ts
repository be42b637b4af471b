import { randomBytes } from "node:crypto";
import { afterAll, beforeAll, describe, expect, it } from "vitest";
import { describeSystem } from "@/agent/system";
import type { PointReport } from "@/core/protocol/agent";
import { all } from "@/db/base/scope";
import { type Machine, machineById } from "@/db/sources/machines";
import { endByAgent, hearMachine, heartbeat, nextJob } from "@/runs/agent-desk";
import { takePoint } from "@/runs/storing";
import { enrolMachine, makeClient, type TestClient, type TestMachine } from "../client";
import { TestConsole } from "../test-console";

/** What an attempt that was taken over still sends: a request that was under way when its agent was killed. */
describe("an attempt that another one has taken over", () => {
  let console_: TestConsole;
  let client: TestClient;
  let enrolled: TestMachine;
  let machine: Machine;
  const system = <T extends object>(sql: string, values: unknown[] = []) =>
    console_.services.db.withScope({ role: "system" }, (tx) => all<T>(tx, sql, values));

  beforeAll(async () => {
    console_ = await TestConsole.start();
    client = await makeClient(console_, "Kestrin Aquaculture");
    enrolled = await enrolMachine(console_, client, "kest-lt-01");
    machine = (await console_.services.db.withScope({ role: "system" }, (tx) =>
      machineById(tx, enrolled.machineId),
    ))!;
  });
  afterAll(() => console_?.stop());

  const report = (attempt: number): PointReport => ({
    attempt,
    pointId: randomBytes(16).toString("hex"),
    object: randomBytes(300).toString("base64"),
    root: randomBytes(32).toString("hex"),
    counts: { files: 1, folders: 1, links: 0, bytes: 10 },
    figures: {
      filesRead: 1,
      bytesRead: 10,
      filesUnchanged: 0,
      changed: 0,
      denser: 0,
      removed: 0,
      renamed: 0,
      busiestFolder: null,
      newChunks: 0,
      newBytes: 0,
      storedBytes: 0,
      packs: 0,
    },
    cautions: 0,
    code: null,
  });

  it("makes no recovery point and ends nothing; the one that goes on does", async () => {
    const { services } = console_;
    await console_.ok("POST", `/sources/${enrolled.sourceId}/runs`);
    const first = (await nextJob(services, machine, ["backup"]))!;
    await hearMachine(services, machine, describeSystem(enrolled.root, enrolled.state), true);
    const second = (await nextJob(services, machine, ["backup"]))!;
    expect([first.attempt, second.attempt, second.runId]).toEqual([1, 2, first.runId]);

    await expect(takePoint(services, machine, first.runId, report(1))).rejects.toMatchObject({
      code: "request.conflict",
      message: "Another attempt has taken over this run.",
    });
    const failed = { outcome: "failed", code: null, message: null, figures: {} } as const;
    await expect(endByAgent(services, machine, first.runId, { attempt: 1, ...failed })).rejects.toMatchObject(
      { code: "request.conflict" },
    );
    expect(await system("select from points")).toEqual([]);
    // nothing was announced for it either: a later purge has nothing to sweep
    expect(await system("select from pending_objects")).toEqual([]);
    expect(await system("select state, outcome from runs")).toEqual([{ state: "claimed", outcome: null }]);

    const made = report(2);
    await takePoint(services, machine, first.runId, made);
    expect(await system("select encode(id, 'hex') as id from points")).toEqual([{ id: made.pointId }]);
    expect(await system("select state, outcome from runs")).toEqual([{ state: "ended", outcome: "clean" }]);
    // the answer was lost, and it is sent again
    await takePoint(services, machine, first.runId, made);
  });

  it("is none where the answer that gave the work was lost: it is given again, as the same attempt", async () => {
    const { services } = console_;
    await console_.ok("POST", `/sources/${enrolled.sourceId}/runs`);
    const first = (await nextJob(services, machine, ["backup"]))!;
    // it may be on its way still
    expect(await nextJob(services, machine, ["backup"])).toBeNull();
    const later = { ...services, now: () => new Date(Date.now() + 6000) };
    expect(await nextJob(later, machine, ["restore"])).toBeNull();
    const again = (await nextJob(later, machine, ["backup"]))!;
    expect([again.runId, again.attempt]).toEqual([first.runId, 1]);
    // from its first sign of life on the agent has it
    await heartbeat(services, machine, first.runId, { attempt: 1 });
    const muchLater = { ...services, now: () => new Date(Date.now() + 30_000) };
    expect(await nextJob(muchLater, machine, ["backup"])).toBeNull();
    await takePoint(services, machine, first.runId, report(1));
    expect(await nextJob(services, machine, ["backup"])).toBeNull();
  });
});
