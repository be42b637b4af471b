import { randomBytes } from "node:crypto";
import { existsSync, mkdirSync, readdirSync, readFileSync, rmSync, statSync, writeFileSync } from "node:fs";
import { join, relative } from "node:path";
import { setTimeout as pause } from "node:timers/promises";
import { afterAll, beforeAll, describe, expect, it } from "vitest";
import { backUp, enrolMachine, makeClient, restore, type TestClient, type TestMachine } from "../client";
import { describeTree } from "../same-tree";
import { kill, TestConsole } from "../test-console";

let console_: TestConsole;
let client: TestClient;
let machine: TestMachine;
let agent: ReturnType<TestConsole["runAgent"]>;

beforeAll(async () => {
  console_ = await TestConsole.start();
  client = await makeClient(console_, "Saltrow Ferries");
  machine = await enrolMachine(console_, client, "salt-ship-01");
  agent = console_.runAgent(machine.state);
});
afterAll(() => console_?.stop());

/** Enough that a run takes a second or two, new in each round, so that every round stores. */
function newCargo(round: number): void {
  const cargo = join(machine.root, "data/cargo");
  rmSync(cargo, { recursive: true, force: true });
  mkdirSync(cargo, { recursive: true });
  for (let i = 0; i < 8; i += 1) writeFileSync(join(cargo, `hold ${i}`), randomBytes(6 * 1024 * 1024));
  for (let i = 0; i < 400; i += 1)
    writeFileSync(join(cargo, `slip ${round} ${i}`), `slip ${round} ${i} `.repeat(40));
}

const victims = {
  agent: async () => {
    await kill(agent);
    agent = console_.runAgent(machine.state);
  },
  web: async () => {
    await console_.killWeb();
    await pause(700);
    console_.startWeb();
    await console_.healthy();
  },
  runner: async () => {
    await console_.killRunner();
    console_.startRunner();
  },
  database: async () => {
    await console_.killDatabase();
    await console_.startDatabase();
    await console_.healthy();
  },
};
const DELAYS_MS = [0, 200, 500];
const rounds = DELAYS_MS.flatMap((delay) =>
  (Object.keys(victims) as (keyof typeof victims)[]).map((victim) => [victim, delay] as const),
);

describe("killed at any instant, everything goes on", () => {
  it.each(rounds)("%s, %d ms into a run", async (victim, delay) => {
    newCargo(delay);
    const { run } = await console_.ok<{ run: { id: string } }>("POST", `/sources/${machine.sourceId}/runs`);
    await pause(delay);
    await victims[victim]();
    const ended = await console_.runEnds(run.id, 90_000);
    expect(ended.outcome, ended.message ?? "").toBe("clean");
    const before = describeTree(join(machine.root, "data"));
    const folder = `/back ${victim} ${delay}`;
    const back = await restore(console_, {
      items: [{ pointId: ended.figures.point, path: "/data" }],
      destination: { kind: "folder", folder, machineId: machine.machineId },
    });
    expect(back.outcome).toBe("clean");
    expect(describeTree(join(machine.root, folder, "data"))).toEqual(before);
    rmSync(join(machine.root, folder), { recursive: true });
  });

  it("lists no point that does not restore, after all of that", async () => {
    const { points } = await console_.ok<{ points: { id: string; files: number }[] }>(
      "GET",
      `/sources/${machine.sourceId}/recovery-points`,
    );
    expect(points.length).toBeGreaterThanOrEqual(rounds.length);
    for (const point of points.slice(0, 6)) {
      const back = await restore(console_, {
        items: [{ pointId: point.id, path: "/data" }],
        destination: { kind: "folder", folder: "/all", machineId: machine.machineId },
      });
      expect(back).toMatchObject({ outcome: "clean" });
      expect(back.figures.files).toBe(point.files);
      rmSync(join(machine.root, "all"), { recursive: true });
    }
  });

  it("gives a run up after three attempts, with its code", async () => {
    newCargo(9);
    const { run } = await console_.ok<{ run: { id: string } }>("POST", `/sources/${machine.sourceId}/runs`);
    await kill(agent);
    await console_.services.db.withScope({ role: "system" }, (tx) =>
      tx.query("update runs set attempt = 2, state = 'due' where id = $1 and state <> 'ended'", [run.id]),
    );
    agent = console_.runAgent(machine.state);
    await pause(900);
    await victims.agent();
    const ended = await console_.runEnds(run.id, 90_000);
    expect(["run.given-up", null]).toContain(ended.code);
    expect((await backUp(console_, machine.sourceId)).outcome).toBe("clean");
  });
});

describe("a restore that is broken off", () => {
  it("goes on when the web comes back, and leaves no unfinished file", async () => {
    newCargo(77);
    const run = await backUp(console_, machine.sourceId);
    const before = describeTree(join(machine.root, "data"));
    const { run: back } = await console_.ok<{ run: { id: string } }>("POST", "/restores", {
      items: [{ pointId: run.figures.point, path: "/data" }],
      destination: { kind: "folder", folder: "/broken", machineId: machine.machineId },
    });
    await pause(200);
    await victims.web();
    const ended = await console_.runEnds(back.id, 90_000);
    expect(ended.outcome).toBe("clean");
    expect(describeTree(join(machine.root, "broken/data"))).toEqual(before);
  });

  it("killed among small files leaves each of them whole, or one that nobody may read, and goes on", async () => {
    const data = join(machine.root, "data/leaves");
    for (let folder = 0; folder < 60; folder += 1) {
      mkdirSync(join(data, `${folder}`), { recursive: true });
      for (let i = 0; i < 200; i += 1)
        writeFileSync(join(data, `${folder}/leaf ${i}`), `leaf ${folder} ${i} `.repeat(i));
    }
    const run = await backUp(console_, machine.sourceId);
    const before = describeTree(data);
    for (const killedAt of [4, 20, 40]) {
      const folder = `/leaves ${killedAt}`;
      const target = join(machine.root, folder, "leaves");
      const { run: back } = await console_.ok<{ run: { id: string } }>("POST", "/restores", {
        items: [{ pointId: run.figures.point, path: "/data/leaves" }],
        destination: { kind: "folder", folder, machineId: machine.machineId },
      });
      while (!existsSync(target) || readdirSync(target).length < killedAt) await pause(2);
      await kill(agent);
      const left = filesIn(target);
      expect(left.length).toBeLessThan(60 * 200);
      const unread: string[] = [];
      for (const path of left)
        if ((statSync(join(target, path)).mode & 0o7777) === 0o200) unread.push(path);
        else expect(readFileSync(join(target, path)).equals(readFileSync(join(data, path)))).toBe(true);
      // one of each thread at most
      expect(unread.length).toBeLessThanOrEqual(2);
      agent = console_.runAgent(machine.state);
      const ended = await console_.runEnds(back.id, 90_000);
      expect(ended).toMatchObject({ outcome: "clean", attempt: 2 });
      expect(describeTree(target)).toEqual(before);
    }
  });
});

describe("a restore of a large file that is broken off", () => {
  it("leaves nothing of what was written when its agent was killed", async () => {
    const data = join(machine.root, "data/large");
    mkdirSync(data, { recursive: true });
    writeFileSync(join(data, "hold.bin"), randomBytes(96 * 1024 * 1024));
    const run = await backUp(console_, machine.sourceId);
    const before = describeTree(data);
    const target = join(machine.root, "large again/large");
    const { run: back } = await console_.ok<{ run: { id: string } }>("POST", "/restores", {
      items: [{ pointId: run.figures.point, path: "/data/large" }],
      destination: { kind: "folder", folder: "/large again", machineId: machine.machineId },
    });
    while (!existsSync(target) || readdirSync(target).length === 0) await pause(1);
    await kill(agent);
    expect(readdirSync(target)).toEqual([expect.stringMatching(/^\.deep-keep-.*\.part$/)]);
    agent = console_.runAgent(machine.state);
    expect(await console_.runEnds(back.id, 90_000)).toMatchObject({ outcome: "clean", attempt: 2 });
    expect(describeTree(target)).toEqual(before);
  });
});

/** Paths of all files below a folder that may not be there yet. */
const filesIn = (folder: string): string[] =>
  existsSync(folder)
    ? readdirSync(folder, { recursive: true, withFileTypes: true })
        .filter((one) => one.isFile())
        .map((one) => relative(folder, join(one.parentPath, one.name)))
    : [];
