import { randomBytes } from "node:crypto";
import { mkdirSync, readdirSync, renameSync, rmdirSync, rmSync, writeFileSync } from "node:fs";
import { join } from "node:path";
import { afterAll, beforeAll, describe, expect, it } from "vitest";
import { all } from "@/db/base/scope";
import { askAllCarries, carry } from "@/runs/carry";
import { growLocks } from "@/runs/locks";
import { S3Server } from "@/standins/s3/server";
import { backUp, enrolMachine, makeClient, restore, type TestClient, type TestMachine } from "../client";
import { freshFolder } from "../depot";
import { describeTree } from "../same-tree";
import { keyOfSheet, readDepot } from "../second-reader";
import { TestConsole, until } from "../test-console";

let console_: TestConsole;
let client: TestClient;
let machine: TestMachine;
let secondId: string;
let secondPath: string;
let bucketId: string;
let bucket: S3Server;

const system = <T extends object>(sql: string, values: unknown[] = []) =>
  console_.services.db.withScope({ role: "system" }, (tx) => all<T>(tx, sql, values));
const data = (name: string) => join(machine.root, "data", name);

interface RunDepotShown {
  depotName: string;
  state: string;
  code: string | null;
  packs: number;
  bytes: number;
}
const depotsOf = async (runId: string) =>
  (await console_.ok<{ depots: RunDepotShown[] }>("GET", `/runs/${runId}`)).depots;
const logOf = async (runId: string) =>
  (await console_.ok<{ lines: { message: string; code: string | null }[] }>("GET", `/runs/${runId}/log`))
    .lines;

async function setWhere(where: object) {
  const { policy } = await console_.ok<{ policy: { revision: number; clauses: object } }>(
    "GET",
    `/policies/${client.policyId}`,
  );
  return console_.call<{ errors: { field: string; message: string }[] }>(
    "PUT",
    `/policies/${client.policyId}`,
    {
      name: "Everything",
      revision: policy.revision,
      clauses: { ...policy.clauses, where: { depotId: client.depotId, ...where } },
    },
  );
}
async function addDepot(name: string, place: object): Promise<string> {
  const { depot } = await console_.ok<{ depot: { id: string } }>("POST", "/depots", {
    name,
    region: "north harbour",
    ...place,
  });
  await console_.ok("PUT", `/depots/${depot.id}/grants/${client.id}`, { quotaBytes: 1e9 });
  return depot.id;
}
/** The newest point of a source and where it lies. */
async function newest() {
  const [point] = await system<{ id: string; depotId: string; places: string[] }>(
    `select encode(p.id, 'hex') as id, p.depot_id as "depotId",
       (select array_agg(depot_id::text) from placed_points pp where pp.id = p.id and pp.purged_at is null) as places
     from points p order by moment desc limit 1`,
  );
  return point!;
}
/** Restores a point beside what is there, and compares both. */
async function restoresEqual(pointId: string) {
  const back = await restore(console_, {
    items: [{ pointId, path: "/data" }],
    destination: { kind: "folder", folder: "/back" },
    clash: "keep-both",
  });
  expect(back).toMatchObject({ outcome: "clean" });
  expect(describeTree(join(machine.root, "back/data"))).toEqual(describeTree(join(machine.root, "data")));
  rmSync(join(machine.root, "back"), { recursive: true });
}
const ids = (path: string) => readDepot(path, keyOfSheet(client.groups)).map((point) => point.id);

beforeAll(async () => {
  console_ = await TestConsole.start();
  client = await makeClient(console_, "Ostrel Land Surveyors");
  machine = await enrolMachine(console_, client, "ostr-ws-01");
  console_.runAgent(machine.state);
  secondPath = freshFolder("second");
  secondId = await addDepot("Second depot", { path: secondPath });
  bucket = new S3Server();
  bucketId = await addDepot("Bucket", {
    kind: "s3",
    endpoint: await bucket.listen(),
    bucketRegion: "north-harbour",
    bucket: "keep",
    accessKeyId: "deep-keep",
    secretAccessKey: "harbour",
  });
  writeFileSync(data("drawing"), randomBytes(20_000_000));
});
afterAll(async () => {
  await console_?.stop();
  await bucket?.close();
});

describe("several depots in a run", () => {
  it("wants other depots, each once, and somebody to take the runs over", async () => {
    const said = async (where: object) => (await setWhere(where)).body.errors[0];
    expect(await said({ beside: [client.depotId] })).toMatchObject({ field: "clauses.where.beside" });
    expect(await said({ beside: [secondId], carryTo: [secondId] })).toMatchObject({
      field: "clauses.where.carryTo",
    });
    expect(await said({ beside: [secondId], atOnce: 0 })).toMatchObject({ field: "clauses.where.atOnce" });
    expect(await said({ whenAway: "others" })).toMatchObject({ field: "clauses.where.whenAway" });
    expect(await said({ beside: ["3a6c7a54-2f34-4b52-9c53-0a3a1b1b1b1b"] })).toMatchObject({
      field: "clauses.where.beside.0",
    });
  });

  it.each([
    ["at the same time", 3],
    ["in turn", 1],
  ])("writes them %s, with figures for each", async (_how, atOnce) => {
    expect((await setWhere({ beside: [secondId, bucketId], atOnce })).status).toBe(200);
    writeFileSync(data(`letter-${atOnce}`), randomBytes(3_000_000));
    const run = await backUp(console_, machine.sourceId);
    expect(run).toMatchObject({ outcome: "clean" });
    const depots = await depotsOf(run.id);
    expect(depots.map(({ state }) => state)).toEqual(["kept", "kept", "kept"]);
    expect(depots[0]!.packs).toBeGreaterThan(0);
    expect(new Set(depots.map(({ packs, bytes }) => `${packs} ${bytes}`)).size).toBe(1);
    expect((await newest()).places.sort()).toEqual([client.depotId, secondId, bucketId].sort());
    expect(ids(secondPath)).toEqual(ids(client.depotPath));
    expect([...bucket.objects.keys()].filter((key) => key.includes("/points/")).length).toBe(
      ids(client.depotPath).length,
    );
  });

  it("goes on when one fails in the middle, says so, and catches it up", async () => {
    await setWhere({ beside: [secondId, bucketId], atOnce: 3 });
    writeFileSync(data("chart"), randomBytes(40_000_000));
    const room = [...bucket.objects.values()].reduce((sum, object) => sum + object.bytes.length, 0);
    bucket.faults.capacity = room + 20_000_000; // the first pack fits, the next does not
    const run = await backUp(console_, machine.sourceId);
    expect(run).toMatchObject({ outcome: "caution", code: "depot.full" });
    expect((await depotsOf(run.id)).map(({ state, code }) => [state, code])).toEqual([
      ["kept", null],
      ["kept", null],
      ["failed", "depot.full"],
    ]);
    expect((await logOf(run.id)).some(({ message }) => message.startsWith("Bucket is left out"))).toBe(true);
    expect((await newest()).places).not.toContain(bucketId);

    // the next run does not build there on what it lacks
    writeFileSync(data("note"), "small");
    const next = await backUp(console_, machine.sourceId);
    expect((await depotsOf(next.id)).map(({ state }) => state)).toEqual(["kept", "kept", "behind"]);
    bucket.faults.capacity = Number.POSITIVE_INFINITY;
    await carry(console_.services, {
      clientId: client.id,
      fromDepot: client.depotId,
      toDepot: bucketId,
    });
    await until(async () => (await newest()).places.includes(bucketId), "the bucket is not caught up");
    expect((await depotsOf(run.id)).at(-1)).toMatchObject({ state: "caught up" });
    const after = await backUp(console_, machine.sourceId);
    expect((await depotsOf(after.id)).map(({ state }) => state)).toEqual(["kept", "kept", "kept"]);
  });

  it("goes on when the first one fails, restores from the others, and catches it up", async () => {
    renameSync(client.depotPath, `${client.depotPath}.gone`);
    writeFileSync(data("plan"), randomBytes(2_000_000));
    const run = await backUp(console_, machine.sourceId);
    expect(run).toMatchObject({ outcome: "caution", code: "depot.not-reached" });
    const point = await newest();
    expect(point.depotId).toBe(secondId);
    await restoresEqual(point.id);
    renameSync(`${client.depotPath}.gone`, client.depotPath);
    await carry(console_.services, { clientId: client.id, fromDepot: secondId, toDepot: client.depotId });
    expect((await newest()).places).toContain(client.depotId);
    expect(ids(client.depotPath)).toEqual(ids(secondPath));
  });

  it("ends with the code when the last one fails", async () => {
    await setWhere({});
    await system("update grants set quota_bytes = used_bytes + 1000 where depot_id = $1", [client.depotId]);
    writeFileSync(data("plan"), randomBytes(2_000_000));
    expect(await backUp(console_, machine.sourceId)).toMatchObject({
      outcome: "failed",
      code: "depot.quota",
    });
    await system("update grants set quota_bytes = 1000000000 where depot_id = $1", [client.depotId]);
    expect(await backUp(console_, machine.sourceId)).toMatchObject({ outcome: "clean" });
  });

  it("starts over in a depot that lacks the newest point when the one that has it is full, and catches that up", async () => {
    const fullPath = freshFolder("full");
    const fullId = await addDepot("Full depot", { path: fullPath });
    await setWhere({ depotId: fullId });
    writeFileSync(data("first"), randomBytes(300_000));
    expect(await backUp(console_, machine.sourceId)).toMatchObject({ outcome: "clean" });
    const before = await newest();
    const freshPath = freshFolder("fresh");
    const freshId = await addDepot("Fresh depot", { path: freshPath });
    await system("update grants set quota_bytes = used_bytes + 1000 where depot_id = $1", [fullId]);
    await setWhere({ depotId: freshId, beside: [fullId], atOnce: 2 });
    writeFileSync(data("second"), randomBytes(2_000_000));

    const run = await backUp(console_, machine.sourceId);
    expect(run).toMatchObject({ outcome: "caution", code: "depot.quota" });
    const states = Object.fromEntries(
      (await depotsOf(run.id)).map(({ depotName, state }) => [depotName, state]),
    );
    expect(states).toEqual({ "Fresh depot": "kept", "Full depot": "failed" });
    const point = await newest();
    expect(point.places).toEqual([freshId]);
    expect(point.id).not.toBe(before.id);
    await restoresEqual(point.id);

    // the other one is caught up when it has room again
    await system("update grants set quota_bytes = 1000000000 where depot_id = $1", [fullId]);
    await askAllCarries(console_.services);
    await until(async () => ids(fullPath).includes(point.id), "the full depot lacks the newest point");
    const next = await backUp(console_, machine.sourceId);
    expect((await depotsOf(next.id)).map(({ state }) => state)).toEqual(["kept", "kept"]);
    // back to the first depot: the machine reads everything once, for its newest point is an older one
    await setWhere({});
    await backUp(console_, machine.sourceId);
  });

  it("ends without a point where no depot is left, and nothing is to be caught up", async () => {
    await setWhere({});
    const folder = client.depotPath;
    renameSync(folder, `${folder}.away`);
    mkdirSync(folder); // the mount point of a disk that is away
    writeFileSync(data("lost"), randomBytes(100_000));
    const run = await backUp(console_, machine.sourceId);
    expect(run).toMatchObject({ outcome: "failed", code: "depot.not-reached" });
    expect((await depotsOf(run.id)).map(({ state }) => state)).toEqual(["broken off"]);
    expect(readdirSync(folder)).toEqual([]);
    rmdirSync(folder);
    renameSync(`${folder}.away`, folder);
    expect(await backUp(console_, machine.sourceId)).toMatchObject({ outcome: "clean" });
  });

  it("goes to the others while the first is away by plan, or waits, as the policy says", async () => {
    await setWhere({ beside: [secondId], carryTo: [bucketId], whenAway: "others" });
    writeFileSync(data("before"), "before");
    await backUp(console_, machine.sourceId);
    // runs that went to the first alone left the second behind; until it is caught up, the agent knows no tree of it
    await until(async () => (await newest()).places.includes(secondId), "the second is not caught up");
    const absences = `/depots/${client.depotId}/absences`;
    const hour = 3_600_000;
    await console_.ok("POST", absences, {
      from: new Date(Date.now() - hour).toISOString(),
      to: new Date(Date.now() + hour).toISOString(),
      note: "in the drawer",
    });
    writeFileSync(data("meanwhile"), "meanwhile");
    const run = await backUp(console_, machine.sourceId);
    expect(run).toMatchObject({ outcome: "clean", code: null });
    expect((await depotsOf(run.id)).map(({ depotName, state }) => [depotName, state])).toEqual([
      ["Second depot", "kept"],
      ["Ostrel Land Surveyors depot", "away"],
    ]);
    await setWhere({ beside: [secondId], whenAway: "wait" });
    const { run: waiting } = await console_.ok<{ run: { id: string } }>(
      "POST",
      `/sources/${machine.sourceId}/runs`,
    );
    const { waits } = await console_.ok<{ waits: string }>("GET", `/runs/${waiting.id}`);
    expect(waits).toContain("in the drawer");
    await system("delete from absences");
    expect((await console_.runEnds(waiting.id)).outcome).toBe("clean");
    await until(
      async () => (await depotsOf(run.id)).every(({ state }) => state === "kept" || state === "caught up"),
      "the depot that was away is not caught up",
    );
  });
});

describe("past the console", () => {
  const requestsOf = (kind: string) =>
    bucket.seen.filter((seen) => seen.startsWith(kind) && seen.includes("presigned"));

  it("sends packs to a bucket itself, and reads them there", async () => {
    await setWhere({ depotId: bucketId });
    expect((await console_.call("PATCH", `/depots/${bucketId}`, { direct: "/srv" })).status).toBe(422);
    await console_.ok("PATCH", `/depots/${bucketId}`, { direct: "presigned" });
    bucket.seen.length = 0;
    writeFileSync(data("survey"), randomBytes(18_000_000));
    const run = await backUp(console_, machine.sourceId);
    expect(run).toMatchObject({ outcome: "clean" });
    const { packs } = (await depotsOf(run.id))[0]!;
    expect(packs).toBeGreaterThan(0);
    expect(requestsOf("PUT").length).toBe(packs);
    const back = await restore(console_, {
      items: [{ pointId: (await newest()).id, path: "/data/survey" }],
      destination: { kind: "folder", folder: "/direct" },
      clash: "keep-both",
    });
    expect(back).toMatchObject({ outcome: "clean" });
    expect(requestsOf("GET").length).toBeGreaterThan(0);
    expect(describeTree(join(machine.root, "direct"))).toMatchObject([expect.stringContaining(" 18000000 ")]);
  });

  it("goes through the console when the bucket does not answer it", async () => {
    bucket.faults.refusePresigned = true;
    writeFileSync(data("survey"), randomBytes(2_000_000));
    const run = await backUp(console_, machine.sourceId);
    bucket.faults.refusePresigned = false;
    expect(run).toMatchObject({ outcome: "clean" });
    expect((await logOf(run.id)).some(({ message }) => message.includes("through the console"))).toBe(true);
  });

  it("writes below a path that the machine sees, only if it is this depot", async () => {
    const seenAs = freshFolder("mount");
    rmSync(seenAs, { recursive: true });
    renameSync(secondPath, seenAs);
    // the console sees the same folder elsewhere
    mkdirSync(secondPath);
    await setWhere({ depotId: secondId });
    await console_.ok("PATCH", `/depots/${secondId}`, { direct: secondPath });
    // nothing is mounted there for either: the run ends with the depot's code, and nothing is written beside it
    writeFileSync(data("survey"), randomBytes(2_000_000));
    expect(await backUp(console_, machine.sourceId)).toMatchObject({
      outcome: "failed",
      code: "depot.not-reached",
    });
    rmSync(secondPath, { recursive: true });
    renameSync(seenAs, secondPath);
    // the agent remembers the tree of another depot, so all is read again
    expect(await backUp(console_, machine.sourceId)).toMatchObject({ code: "change-tracking.reset" });
    expect(ids(secondPath)[0]).toBe((await newest()).id);
  });
});

describe("a lock that grows with what builds on it", () => {
  it("keeps packs of an earlier run as long as the later point", async () => {
    await setWhere({ depotId: bucketId });
    await console_.ok("PUT", `/depots/${bucketId}/grants/${client.id}`, { quotaBytes: 1e9, lockDays: 30 });
    const before = new Set(bucket.objects.keys());
    writeFileSync(data("survey"), randomBytes(2_000_000));
    await backUp(console_, machine.sourceId);
    const packs = [...bucket.objects].filter(([key]) => key.includes("/packs/") && !before.has(key));
    const daysOf = () =>
      packs.map(([, { lockedUntil }]) => (lockedUntil!.getTime() - Date.now()) / 86_400_000);
    expect(daysOf().every((days) => days > 29 && days < 31)).toBe(true);
    await console_.ok("PUT", `/depots/${bucketId}/grants/${client.id}`, { quotaBytes: 1e9, lockDays: 60 });
    writeFileSync(data("another"), "later");
    await backUp(console_, machine.sourceId);
    await until(async () => daysOf().every((days) => days > 59), "the lock does not grow");
    expect(await growLocks(console_.services, bucketId, client.id)).toBe(0);
  });
});
