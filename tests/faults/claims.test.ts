import { randomBytes } from "node:crypto";
import { readFileSync, writeFileSync } from "node:fs";
import { join } from "node:path";
import { setTimeout as pause } from "node:timers/promises";
import { afterAll, beforeAll, describe, expect, it } from "vitest";
import { all } from "@/db/base/scope";
import { machineById } from "@/db/sources/machines";
import { nextJob } from "@/runs/agent-desk";
import { takePack } from "@/runs/storing";
import {
  backUp,
  enrolMachine,
  makeClient,
  restore,
  setClauses,
  type TestClient,
  type TestMachine,
} from "../client";
import { freshFolder } from "../depot";
import { TestConsole } from "../test-console";

/** A machine that was taken over claims to have stored what another one is about to store. */
describe("what a machine merely claims to have stored", () => {
  let console_: TestConsole;
  let client: TestClient;
  let rogue: TestMachine;
  let honest: TestMachine;
  const system = <T>(sql: string, values: unknown[] = []) =>
    console_.services.db.withScope({ role: "system" }, (tx) => all<T>(tx, sql, values));

  beforeAll(async () => {
    console_ = await TestConsole.start();
    client = await makeClient(console_, "Kestrin Aquaculture");
    rogue = await enrolMachine(console_, client, "kest-lt-01");
    honest = await enrolMachine(console_, client, "kest-lt-02");
    console_.runAgent(honest.state);
  });
  afterAll(() => console_?.stop());

  it("is read before another machine leaves it out, and is stored by that machine after all", async () => {
    writeFileSync(join(honest.root, "data/readings"), randomBytes(3_000_000));
    expect((await backUp(console_, honest.sourceId)).outcome).toBe("clean");
    const ids = (await system<{ id: Buffer }>("select id from chunks")).map((row) => row.id);
    // the client moves to another depot, where nothing is yet
    const { depot } = await console_.ok<{ depot: { id: string } }>("POST", "/depots", {
      name: "New quay",
      path: freshFolder("quay"),
      region: "north harbour",
    });
    await console_.ok("PUT", `/depots/${depot.id}/grants/${client.id}`, { quotaBytes: 1e9 });
    await setClauses(console_, client, { where: { depotId: depot.id } });
    // the rogue is first: one pack of noise that claims to hold all of it
    await console_.ok("POST", `/sources/${rogue.sourceId}/runs`);
    const machine = (await console_.services.db.withScope({ role: "system" }, (tx) =>
      machineById(tx, rogue.machineId),
    ))!;
    const job = (await nextJob(console_.services, machine, ["backup"]))!;
    const noise = async function* () {
      yield randomBytes(50_000);
    };
    const packId = randomBytes(16);
    await takePack(console_.services, machine, job.runId, packId, { ids, contentBytes: 3_000_000 }, noise());
    const claimed = () => system("select from chunks where pack_id = $1", [packId]);
    expect((await claimed()).length).toBe(ids.length);
    const run = await backUp(console_, honest.sourceId);
    expect(run.outcome).toBe("clean");
    expect(run.figures.newBytes).toBeGreaterThan(2_900_000);
    expect(await claimed()).toEqual([]);
    const { rows } = await console_.ok<{ rows: { action: string; details: object }[] }>(
      "GET",
      "/trail?search=rejected",
    );
    expect(rows).toMatchObject([
      { action: "rejected the contents of a pack", details: { chunks: ids.length } },
    ]);
    const back = await restore(console_, {
      items: [{ pointId: run.figures.point!, path: "/data" }],
      destination: { kind: "folder", folder: "/back" },
      clash: "keep-both",
    });
    expect(back.outcome).toBe("clean");
    expect(
      readFileSync(join(honest.root, "back/data/readings")).equals(
        readFileSync(join(honest.root, "data/readings")),
      ),
    ).toBe(true);
  });

  it("counts once its pack was verified: the same file of two machines is stored once", async () => {
    const bytes = randomBytes(2_000_000);
    writeFileSync(join(honest.root, "data/handbook"), bytes);
    await backUp(console_, honest.sourceId);
    const third = await enrolMachine(console_, client, "kest-lt-03");
    console_.runAgent(third.state);
    writeFileSync(join(third.root, "data/handbook"), bytes);
    const run = await backUp(console_, third.sourceId);
    expect(run.outcome).toBe("clean");
    expect(run.figures.newBytes).toBeLessThan(100_000);
  });
});

describe("what a machine reports", () => {
  let console_: TestConsole;
  let client: TestClient;
  let machine: TestMachine;
  beforeAll(async () => {
    console_ = await TestConsole.start();
    client = await makeClient(console_, "Kestrin Aquaculture");
    machine = await enrolMachine(console_, client, "kest-lt-01");
  });
  afterAll(() => console_?.stop());

  const system = {
    hostname: "kest-lt-01",
    system: "Debian 12",
    kernel: "6.1",
    cores: 2,
    memory: 4e9,
    agent: "0.1.0",
    volumes: [{ path: "/", size: 1e9, free: 5e8 }],
  };
  const call = (path: string, body: unknown) => {
    const { token } = JSON.parse(readFileSync(join(machine.state, "identity.json"), "utf8")) as {
      token: string;
    };
    return fetch(`${console_.url}/agent/v1/${path}`, {
      method: "POST",
      headers: { authorization: `Bearer ${token}` },
      body: typeof body === "string" ? body : JSON.stringify(body),
    });
  };

  it.each<[string, object]>([
    ["a negative size", { memory: -1 }],
    ["a fraction", { cores: 1.5 }],
    ["more than there is", { memory: 1e300 }],
    ["volumes out of range", { volumes: [{ path: "/", size: 2 ** 60, free: -5 }] }],
    ["a NUL", { hostname: "a\0b" }],
    ["half of a character", { kernel: "\ud800" }],
  ])("is refused with %s, in words", async (_what, change) => {
    const answer = await call("hello", { system: { ...system, ...change }, started: false });
    expect(answer.status).toBe(422);
    expect((await answer.json()).errors[0].field).toMatch(/^system\./);
  });

  it("is taken as it is otherwise, and every depot's page opens", async () => {
    expect((await call("hello", { system, started: false })).status).toBe(204);
    expect((await console_.call("GET", "/depots")).status).toBe(200);
  });

  it("has counts in range: a point with others is refused, and the depot's page is as before", async () => {
    await console_.ok("POST", `/sources/${machine.sourceId}/runs`);
    // an agent that reads none of the client's sources gets no run of them
    const asked = call("work", { kinds: ["backup"], sources: ["disks"] });
    expect(await Promise.race([asked.then(({ status }) => status), pause(1500, "waits")])).toBe("waits");
    const job = (await (await call("work", { kinds: ["backup"] })).json()) as {
      runId: string;
      clauses: { what: object };
    };
    // earlier agents do not announce what they read, and know one selection
    expect(job.clauses.what).toMatchObject({ folders: ["/data"], exclude: [] });
    const figures = {
      filesRead: 0,
      bytesRead: 0,
      filesUnchanged: 0,
      changed: 0,
      denser: 0,
      removed: 0,
      busiestFolder: null,
      newChunks: 0,
      newBytes: 0,
      storedBytes: 0,
      packs: 0,
    };
    for (const counts of [
      { files: -1, folders: 0, links: 0, bytes: 0 },
      { files: 0.5, folders: 0, links: 0, bytes: 0 },
      { files: 0, folders: 0, links: 0, bytes: 2 ** 62 },
      { files: 1e30, folders: 0, links: 0, bytes: 0 },
    ]) {
      const answer = await call(`runs/${job.runId}/point`, {
        attempt: 1,
        pointId: "0".repeat(32),
        object: "",
        root: "0".repeat(64),
        counts,
        figures,
        cautions: 0,
        code: null,
      });
      expect(answer.status).toBe(422);
    }
    expect(
      (await call(`runs/${job.runId}/point`, { ...{}, pointId: "0".repeat(32), cautions: -1 })).status,
    ).toBe(422);
    expect((await console_.call("GET", "/depots")).status).toBe(200);
  });

  it("enrols with a public key that something can be sealed to, and with no other", async () => {
    const { code } = await console_.ok<{ code: string }>("POST", `/clients/${client.id}/enrolment-codes`, {
      siteId: client.siteId,
      uses: 1,
    });
    const enrol = (publicKey: string) =>
      fetch(`${console_.url}/agent/v1/enrol`, {
        method: "POST",
        body: JSON.stringify({ code, name: "kest-lt-09", publicKey, system }),
      });
    const spki = (bytes: Buffer) =>
      Buffer.concat([Buffer.from("302a300506032b656e032100", "hex"), bytes]).toString("base64");
    for (const wrong of [
      "",
      "AAAA",
      randomBytes(44).toString("base64"),
      spki(Buffer.alloc(32)),
      spki(Buffer.alloc(31, 9)),
    ])
      expect((await enrol(wrong)).status, wrong).toBe(422);
    // the code is not used up by any of them
    expect((await enrol(spki(randomBytes(32)))).status).toBe(200);
  });
});
