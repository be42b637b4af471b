import { randomBytes } from "node:crypto";
import { mkdirSync, readdirSync, readFileSync, renameSync, rmSync, writeFileSync } from "node:fs";
import { join } from "node:path";
import { afterAll, beforeAll, describe, expect, it } from "vitest";
import { insertToken } from "@/db/access/sessions";
import { all } from "@/db/base/scope";
import { applyRetention } from "@/runs/retention";
import { hashSecret } from "@/store/seal/secrets";
import { backUp, enrolMachine, makeClient, restore, type TestClient, type TestMachine } from "../client";
import { TestConsole } from "../test-console";

let console_: TestConsole;
let client: TestClient;
let machine: TestMachine;

interface Cause {
  readonly key: string;
  readonly kind: string;
  readonly title: string;
  readonly sourceIds: readonly string[];
  readonly setAside: { readonly note: string; readonly setBy: string } | null;
}
const watch = () => console_.ok<{ causes: Cause[] }>("GET", "/watch");
const burstCause = async () => (await watch()).causes.find((cause) => cause.kind === "burst");
const system = <T extends object>(sql: string, values: unknown[] = []) =>
  console_.services.db.withScope({ role: "system" }, (tx) => all<T>(tx, sql, values));
const data = () => join(machine.root, "data");
const letter = (i: number, round = 0) =>
  `Dear tenant ${i}, your rent of ${i * 7} falls due in week ${round}. `.repeat(40 + (i % 7));

/** A day's work: a letter or two are written to. */
async function day(round: number) {
  for (const i of [round % 60, (round * 7) % 60])
    writeFileSync(join(data(), `letter ${i}.txt`), letter(i, round));
  return backUp(console_, machine.sourceId);
}

beforeAll(async () => {
  console_ = await TestConsole.start();
  client = await makeClient(console_, "Pendlewick Housing Trust", {
    clauses: { howLong: { kind: "last", count: 3 } },
  });
  machine = await enrolMachine(console_, client, "pend-srv-01");
  console_.runAgent(machine.state);
  for (let i = 0; i < 60; i += 1) writeFileSync(join(data(), `letter ${i}.txt`), letter(i));
  await backUp(console_, machine.sourceId);
  for (let round = 1; round <= 5; round += 1) await day(round);
});
afterAll(() => console_?.stop());

describe("what looks like it and is not", () => {
  it("a photo import adds what is dense and changes nothing", async () => {
    mkdirSync(join(data(), "Photos"));
    for (let i = 0; i < 80; i += 1)
      writeFileSync(join(data(), "Photos", `IMG_${i}.jpg`), randomBytes(20_000));
    expect(await day(6)).toMatchObject({ figures: { burst: null } });
  });
  it("a software update changes much that still compresses", async () => {
    mkdirSync(join(data(), "App"));
    for (let i = 0; i < 60; i += 1) writeFileSync(join(data(), "App", `part ${i}.js`), letter(i, 1));
    await day(7);
    for (let i = 0; i < 60; i += 1) writeFileSync(join(data(), "App", `part ${i}.js`), letter(i, 2));
    expect(await day(8)).toMatchObject({ figures: { burst: null } });
  });
  it("a big move of folders takes all away and brings it elsewhere", async () => {
    renameSync(join(data(), "Photos"), join(data(), "Photos of the year"));
    renameSync(join(data(), "App"), join(data(), "Old app"));
    expect(await day(9)).toMatchObject({ figures: { burst: null } });
    expect(await burstCause()).toBeUndefined();
  });
});

describe("a night of mass encryption", () => {
  let before: string;
  it("raises an alarm with its evidence, stops dropping, and locks the last good points", async () => {
    for (let round = 10; round <= 12; round += 1) before = (await day(round)).figures.point!;
    await applyRetention(console_.services, machine.sourceId);
    // every letter comes back under another ending, dense as random bytes
    for (const name of readdirSync(data()).filter((one) => one.endsWith(".txt"))) {
      const { length } = readFileSync(join(data(), name));
      rmSync(join(data(), name));
      writeFileSync(join(data(), `${name}.crab`), randomBytes(length));
    }
    const run = await backUp(console_, machine.sourceId);
    expect(run.figures).toMatchObject({ renamed: 60, denser: 60 });
    // not clean: the run says how much changed and how much became unreadable, in its docket and its log
    expect(run).toMatchObject({ outcome: "caution", code: "content.mass-change" });
    const said =
      /^\d\d % of \d+ files changed in this run, and 100 % of those became unreadable; most are in \/data\.$/;
    expect(run.message).toMatch(said);
    const { lines } = await console_.ok<{ lines: { level: string; code: string; message: string }[] }>(
      "GET",
      `/runs/${run.id}/log`,
    );
    expect(lines.find((line) => line.code === "content.mass-change")).toMatchObject({
      level: "caution",
      message: expect.stringMatching(said),
    });
    const cause = (await burstCause())!;
    expect(cause.title).toMatch(
      /pend-srv-01 changed \d\d % of its files in one run, 100 % of them became unreadable/,
    );
    const [hold] = await system<{ evidence: { before: string; folder: string } }>(
      "select evidence from holds where lifted_at is null",
    );
    expect(hold!.evidence).toMatchObject({ before, folder: "/data" });
    const locked = await system<{ id: string }>(
      "select encode(id, 'hex') as id from points where locked_until > now() + interval '29 days' order by moment desc",
    );
    expect(locked.length).toBe(3); // all that the policy keeps
    expect(locked[0]!.id).toBe(before);
  });

  it("drops nothing while the alarm stands, and stays in Watch after the next quiet run", async () => {
    const kept = async () =>
      (await system<{ n: number }>("select count(*)::int as n from points where dropped_at is null"))[0]!.n;
    const there = await kept();
    writeFileSync(join(data(), "READ ME.txt"), "pay");
    await backUp(console_, machine.sourceId);
    await applyRetention(console_.services, machine.sourceId);
    expect(await kept()).toBe(there + 1);
    expect(await burstCause()).toBeDefined();
  });

  it("lets the source be exposed, also after a clean run, marks the points since, and leads the client's statement", async () => {
    const { sources } = await console_.ok<{ sources: { id: string; state: string; lastOutcome: string }[] }>(
      "GET",
      `/sources?client=${client.id}`,
    );
    expect(sources.find((one) => one.id === machine.sourceId)).toMatchObject({
      state: "exposed",
      lastOutcome: "clean",
    });
    const { statement } = await console_.ok<{
      statement: {
        headline: string;
        alarms: { standing: boolean; sentences: string[] }[];
        exceptions: { sentence: string }[];
      };
    }>("GET", `/clients/${client.id}/statement`);
    expect(statement.headline).toMatch(/^Possible encryption attack/);
    expect(statement.alarms[0]!.sentences.join(" ")).toContain("those recovery points were locked");
    expect(statement.exceptions.some((one) => one.sentence.includes("became unreadable"))).toBe(true);
    const { person } = await console_.ok<{ person: { id: string } }>("POST", `/clients/${client.id}/people`, {
      name: "Pen Dlewick",
      email: "pen@pendlewick.example",
      role: "person",
    });
    await console_.ok("POST", `/clients/${client.id}/gifts`, {
      personId: person.id,
      sourceId: machine.sourceId,
    });
    const token = randomBytes(32).toString("base64url");
    await console_.services.db.withScope({ role: "system" }, (tx) =>
      insertToken(tx, hashSecret(token), person.id, "test", new Date(), new Date(Date.now() + 3_600_000)),
    );
    const { body: given } = await console_.call<{ gifts: { id: string }[] }>(
      "GET",
      "/given",
      undefined,
      token,
    );
    const { body } = await console_.call<{ points: { id: string; suspect: boolean }[] }>(
      "GET",
      `/given/${given.gifts[0]!.id}/recovery-points`,
      undefined,
      token,
    );
    expect(body.points.find((point) => !point.suspect)!.id).toBe(before);
    expect(body.points.slice(0, 2).map((point) => point.suspect)).toEqual([true, true]);
  });

  it("is undone by a restore from the point before it", async () => {
    rmSync(data(), { recursive: true });
    const run = await restore(console_, {
      items: [{ pointId: before, path: "/data" }],
      destination: { kind: "original" },
      clash: "replace",
    });
    expect(run).toMatchObject({ outcome: "clean" });
    expect(readdirSync(data()).filter((name) => name.endsWith(".txt")).length).toBe(60);
    expect(readFileSync(join(data(), "letter 3.txt"), "utf8")).toContain("Dear tenant 3");
  });

  it("is over when somebody says so; locks stay", async () => {
    const [hold] = await system<{ id: string }>("select id from holds where lifted_at is null");
    await console_.ok("DELETE", `/sources/${machine.sourceId}/holds/${hold!.id}`);
    const { sources } = await console_.ok<{ sources: { id: string; state: string }[] }>(
      "GET",
      `/sources?client=${client.id}`,
    );
    expect(sources.find((one) => one.id === machine.sourceId)!.state).toBe("kept");
    expect(await burstCause()).toBeUndefined();
    const locked = await system("select from points where locked_until > now() + interval '29 days'");
    expect(locked.length).toBe(3); // all that the policy keeps
  });
});

describe("a cause in Watch", () => {
  it("is set aside until a moment, with a reason, and taken up again", async () => {
    const spare = await enrolMachine(console_, client, "pend-lt-11");
    await console_.ok("PATCH", `/sources/${spare.sourceId}`, { policyId: null });
    const cause = (await watch()).causes.find((one) => one.kind === "no-policy")!;
    const put = (body: object) =>
      console_.call<{ errors: { field: string }[] }>("PUT", "/watch/set-asides", { key: cause.key, ...body });
    const hours = (count: number) => new Date(Date.now() + count * 3_600_000).toISOString();
    expect((await put({ until: hours(-1), note: "later" })).body.errors[0]!.field).toBe("until");
    expect((await put({ until: hours(24 * 40), note: "later" })).body.errors[0]!.field).toBe("until");
    expect((await put({ until: hours(16), note: "" })).body.errors[0]!.field).toBe("note");
    expect((await put({ key: "nothing", until: hours(16), note: "later" })).status).toBe(404);
    expect((await put({ until: hours(16), note: "it comes back on Friday" })).status).toBe(200);
    const [aside] = await system<{ note: string; by: string }>("select note, set_by as by from set_asides");
    expect(aside).toEqual({ note: "it comes back on Friday", by: "Ines Marlow" });
    const told = async () => (await watch()).causes.find((one) => one.key === cause.key)!.setAside;
    expect(await told()).toMatchObject({ note: "it comes back on Friday", setBy: "Ines Marlow" });
    const again = () => console_.call("POST", "/watch/set-asides/taken-up", { key: cause.key });
    expect((await again()).status).toBe(200);
    expect(await told()).toBeNull();
    expect((await again()).status).toBe(404);
  });

  it("hands over what one shift leaves for the next", async () => {
    await console_.ok("POST", "/watch/handover", { text: "Pendlewick rang: the laptop is with its owner." });
    const { handover } = await console_.ok<{ handover: { text: string; writtenBy: string } }>(
      "GET",
      "/watch/handover",
    );
    expect(handover).toMatchObject({
      writtenBy: "Ines Marlow",
      text: expect.stringContaining("Pendlewick rang"),
    });
  });
});
