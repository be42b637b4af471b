import { execFileSync } from "node:child_process";
import { mkdirSync, readdirSync, readFileSync, writeFileSync } from "node:fs";
import { join } from "node:path";
import { afterAll, beforeAll, describe, expect, it } from "vitest";
import { backUp, enrolMachine, makeClient, type TestClient, type TestMachine } from "../client";
import { freshFolder } from "../depot";
import { TestConsole, until } from "../test-console";

let console_: TestConsole;
let client: TestClient;
let machine: TestMachine;
let greta: { id: string; token: string };
let emmet: { id: string; token: string };
let hanne: { id: string; token: string };
let giftId: string;
let pointId: string;

async function person(name: string, role: "person" | "manager") {
  const token = await console_.addPerson({
    email: `${name.toLowerCase()}@vossel.example`,
    name,
    role,
    clientId: client.id,
  });
  const { body } = await console_.call<{ person: { id: string } }>("GET", "/me", undefined, token);
  return { id: body.person.id, token };
}
const give = async (personId: string, path: string, askFirst = false) =>
  (
    await console_.ok<{ gift: { id: string } }>("POST", `/clients/${client.id}/gifts`, {
      personId,
      sourceId: machine.sourceId,
      path,
      askFirst,
    })
  ).gift.id;
const inData = (path: string) => join(machine.root, "data", path);
const as = <T>(who: { token: string }, method: string, path: string, body?: unknown) =>
  console_.call<T>(method, path, body, who.token);

interface Restored {
  id: string;
  state: string;
  outcome: string | null;
  figures: { files?: number; keptBoth?: number };
}
const restoresOf = async (who: { token: string }) =>
  (await as<{ restores: Restored[] }>(who, "GET", "/given")).body.restores;
async function ended(who: { token: string }, id: string): Promise<Restored> {
  let found: Restored | undefined;
  await until(async () => {
    found = (await restoresOf(who)).find((one) => one.id === id);
    return found?.state === "ended";
  }, "the restore does not end");
  return found!;
}

beforeAll(async () => {
  console_ = await TestConsole.start();
  client = await makeClient(console_, "Vossel & Daughters Bakery");
  machine = await enrolMachine(console_, client, "voss-lt-02");
  console_.runAgent(machine.state);
  for (const folder of ["greta/recipes", "till"]) mkdirSync(inData(folder), { recursive: true });
  writeFileSync(inData("greta/recipes/rye.txt"), "rye, as it was on Tuesday");
  writeFileSync(inData("greta/recipes/spelt.txt"), "spelt");
  writeFileSync(inData("till/takings.csv"), "what nobody else is to see");
  const run = await backUp(console_, machine.sourceId);
  pointId = run.figures.point as string;
  greta = await person("Greta", "person");
  emmet = await person("Emmet", "person");
  hanne = await person("Hanne", "manager");
  giftId = await give(greta.id, "/data/greta");
});
afterAll(() => console_?.stop());

describe("what was given to a person", () => {
  const inside = (path: string, who = greta, gift = giftId) =>
    as<{ entries: { path: string }[] }>(
      who,
      "GET",
      `/given/${gift}/recovery-points/${pointId}/entries?path=${encodeURIComponent(path)}`,
    );

  it("is browsed from its folder on, searched, and seen in its versions", async () => {
    const root = await as<{ entries: { path: string }[] }>(
      greta,
      "GET",
      `/given/${giftId}/recovery-points/${pointId}/entries`,
    );
    expect(root.body.entries.map(({ path }) => path)).toEqual(["/data/greta/recipes"]);
    const found = await as<{ entries: { path: string }[] }>(
      greta,
      "GET",
      `/given/${giftId}/recovery-points/${pointId}/search?name=t`,
    );
    expect(found.body.entries.map(({ path }) => path)).toEqual([
      "/data/greta/recipes/rye.txt",
      "/data/greta/recipes/spelt.txt",
    ]);
    const versions = await as<{ versions: unknown[] }>(
      greta,
      "GET",
      `/given/${giftId}/versions?path=/data/greta/recipes/rye.txt`,
    );
    expect(versions.body.versions).toHaveLength(1);
  });

  it.each(["/data", "/data/till", "/data/till/takings.csv", "/", "/data/gretaX"])(
    "has nothing of %s in it",
    async (path) => {
      expect((await inside(path)).status).toBe(404);
      const items = [{ giftId, pointId, path }];
      expect((await as(greta, "POST", "/given/weight", { items })).status).toBe(404);
      expect((await as(greta, "POST", "/given/restores", { items })).status).toBe(404);
      expect((await as(greta, "POST", "/given/archives", { items, format: "zip" })).status).toBe(404);
      expect(
        (await as(greta, "GET", `/given/${giftId}/versions?path=${encodeURIComponent(path)}`)).status,
      ).toBe(404);
    },
  );

  it.each(["/data/greta/../till", "/data/greta/./x", "data/greta", "/data/greta\0"])(
    "takes no path like %j",
    async (path) => {
      expect((await inside(path)).status).toBe(422);
    },
  );

  it("is nobody else's: neither by the gift's id, nor a download's, nor a run's", async () => {
    expect((await inside("/data/greta", emmet)).status).toBe(404);
    expect((await as(emmet, "GET", `/given/${giftId}/recovery-points`)).status).toBe(404);
    const items = [{ giftId, pointId, path: "/data/greta" }];
    const { body } = await as<{ url: string }>(greta, "POST", "/given/archives", { items, format: "tar" });
    const fetched = (who: { token: string }) =>
      fetch(`${console_.url}${body.url}`, { headers: { authorization: `Bearer ${who.token}` } });
    expect((await fetched(emmet)).status).toBe(404);
    const tar = freshFolder("download");
    writeFileSync(join(tar, "x.tar"), Buffer.from(await (await fetched(greta)).arrayBuffer()));
    const names = execFileSync("tar", ["tf", join(tar, "x.tar")], { encoding: "utf8" });
    expect(names).toContain("greta/recipes/rye.txt");
    expect(names).not.toContain("takings");
    // the technician sees the download among the runs
    await until(
      async () => (await restoresOf(greta)).some(({ outcome }) => outcome === "clean"),
      "no run of it",
    );
    expect(await restoresOf(emmet)).toEqual([]);
  });

  it("is seen by the database itself: a person's transaction reads no other source, point or run", async () => {
    const other = await enrolMachine(console_, client, "voss-lt-03");
    const scope = { role: "person" as const, clientId: client.id, personId: greta.id };
    const count = async (sql: string) =>
      Number(
        (await console_.services.db.withScope(scope, (tx) => tx.query(`select count(*) as n from ${sql}`)))
          .rows[0].n,
      );
    expect(await count("sources")).toBe(1);
    expect(await count(`sources where id = '${other.sourceId}'`)).toBe(0);
    expect(await count("points where source_id not in (select source_id from gifts)")).toBe(0);
    expect(await count("runs where person_id is distinct from scope_person()")).toBe(0);
    for (const table of [
      "trail",
      "policies",
      "packs",
      "chunks",
      "grants",
      "depots",
      "sites",
      "holds",
      "messages",
    ])
      expect([table, await count(table)]).toEqual([table, 0]);
    // and writes a restore of what was given in their own name, nothing else
    const insert = (values: string) =>
      console_.services.db.withScope(scope, (tx) =>
        tx.query(
          `insert into runs (id, client_id, source_id, machine_id, kind, cause, due_at, person_id) values (gen_random_uuid(), '${client.id}', ${values})`,
        ),
      );
    const { machineId } = machine;
    await expect(
      insert(`'${other.sourceId}', '${other.machineId}', 'restore', 'person', now(), '${greta.id}'`),
    ).rejects.toThrow(/row-level security/);
    await expect(
      insert(`'${machine.sourceId}', '${machineId}', 'backup', 'person', now(), '${greta.id}'`),
    ).rejects.toThrow(/row-level security/);
    await expect(
      insert(`'${machine.sourceId}', '${machineId}', 'restore', 'person', now(), '${emmet.id}'`),
    ).rejects.toThrow(/row-level security/);
  });
});

describe("getting it back", () => {
  it("puts it beside what is there, never over it", async () => {
    writeFileSync(inData("greta/recipes/rye.txt"), "rye, spoilt on Wednesday");
    const { body } = await as<{ runId: string }>(greta, "POST", "/given/restores", {
      items: [{ giftId, pointId, path: "/data/greta/recipes/rye.txt" }],
    });
    expect(await ended(greta, body.runId)).toMatchObject({
      outcome: "clean",
      figures: { files: 1, keptBoth: 1 },
    });
    const names = readdirSync(inData("greta/recipes")).filter((name) => name.startsWith("rye"));
    expect(names).toHaveLength(2);
    expect(readFileSync(inData("greta/recipes/rye.txt"), "utf8")).toContain("spoilt");
    const beside = names.find((name) => name !== "rye.txt")!;
    expect(readFileSync(inData(`greta/recipes/${beside}`), "utf8")).toBe("rye, as it was on Tuesday");
  });

  it("or into a folder there, and not out of it", async () => {
    const restored = (folder: string) =>
      as<{ runId: string }>(greta, "POST", "/given/restores", {
        items: [{ giftId, pointId, path: "/data/greta/recipes" }],
        folder,
      });
    for (const folder of ["..", "x/../../till", "  /  "])
      expect([folder, (await restored(folder)).status]).toEqual([folder, 422]);
    const { body } = await restored("From Tuesday");
    expect(await ended(greta, body.runId)).toMatchObject({ outcome: "clean" });
    expect(readdirSync(inData("greta/From Tuesday/recipes")).sort()).toEqual(["rye.txt", "spelt.txt"]);
  });

  it("stands in the technician's runs and in the trail, with who it was", async () => {
    const { past } = await console_.ok<{ past: { requestedBy: string; kind: string }[] }>(
      "GET",
      "/runs?kind=restore",
    );
    expect(past.map(({ requestedBy }) => requestedBy)).toContain("Greta");
    const trail = JSON.stringify(await console_.ok("GET", "/trail"));
    expect(trail).toContain("/data/greta/recipes/rye.txt");
    expect(trail).toContain("shared files with a person");
  });
});

describe("a restore that the manager is asked about", () => {
  let asked: string;

  it("waits for their word, and cannot be downloaded around it", async () => {
    asked = await give(emmet.id, "/data/till", true);
    const items = [{ giftId: asked, pointId, path: "/data/till/takings.csv" }];
    expect((await as(emmet, "POST", "/given/archives", { items, format: "zip" })).status).toBe(403);
    const { body } = await as<{ runId: null; askId: string }>(emmet, "POST", "/given/restores", { items });
    expect(body.runId).toBeNull();
    expect(await restoresOf(emmet)).toEqual([]);
    // neither the person nor another decides
    const decision = { decision: "agreed" };
    expect((await as(emmet, "POST", `/asks/${body.askId}/decision`, decision)).status).toBe(404);
    const { body: open } = await as<{ asks: { id: string; paths: string[]; files: number }[] }>(
      hanne,
      "GET",
      "/asks",
    );
    expect(open.asks).toMatchObject([{ id: body.askId, paths: ["/data/till/takings.csv"], files: 1 }]);
    const { body: agreed } = await as<{ runId: string }>(
      hanne,
      "POST",
      `/asks/${body.askId}/decision`,
      decision,
    );
    expect(await ended(emmet, agreed.runId)).toMatchObject({ outcome: "clean" });
    expect((await as(hanne, "POST", `/asks/${body.askId}/decision`, decision)).status).toBe(409);
  });

  it("stays as it is when they decline", async () => {
    const items = [{ giftId: asked, pointId, path: "/data/till" }];
    const { body } = await as<{ askId: string }>(emmet, "POST", "/given/restores", { items });
    await as(hanne, "POST", `/asks/${body.askId}/decision`, { decision: "declined" });
    const { body: given } = await as<{ asks: { decision: string; decidedBy: string }[] }>(
      emmet,
      "GET",
      "/given",
    );
    expect(given.asks[0]).toMatchObject({ decision: "declined", decidedBy: "Hanne" });
    expect((await restoresOf(emmet)).length).toBe(1);
  });
});

describe("what was given", () => {
  it("is looked at again when the manager agrees: what was taken back meanwhile does not come", async () => {
    const lent = await give(emmet.id, "/data/greta", true);
    const { body } = await as<{ askId: string }>(emmet, "POST", "/given/restores", {
      items: [{ giftId: lent, pointId, path: "/data/greta/recipes" }],
    });
    await console_.ok("DELETE", `/gifts/${lent}`);
    const agreed = await as(hanne, "POST", `/asks/${body.askId}/decision`, { decision: "agreed" });
    expect(agreed.status).toBe(409);
    const declined = await as(hanne, "POST", `/asks/${body.askId}/decision`, { decision: "declined" });
    expect(declined.status).toBe(200);
  });

  it("is gone at once when it is taken back, a prepared download with it", async () => {
    const items = [{ giftId, pointId, path: "/data/greta" }];
    const { body } = await as<{ url: string }>(greta, "POST", "/given/archives", { items, format: "zip" });
    await console_.ok("DELETE", `/gifts/${giftId}`);
    expect((await as<{ gifts: [] }>(greta, "GET", "/given")).body.gifts).toEqual([]);
    expect((await as(greta, "GET", `/given/${giftId}/recovery-points`)).status).toBe(404);
    const fetched = await fetch(`${console_.url}${body.url}`, {
      headers: { authorization: `Bearer ${greta.token}` },
    });
    expect(fetched.status).toBe(404);
  });

  it("ends by itself on its day, and is given once", async () => {
    const path = `/clients/${client.id}/gifts`;
    const gift = { personId: greta.id, sourceId: machine.sourceId, path: "/data/greta" };
    const past = await console_.call("POST", path, { ...gift, until: "2020-01-01T00:00:00Z" });
    expect(past.body).toMatchObject({ errors: [{ field: "until" }] });
    await console_.ok("POST", path, { ...gift, until: new Date(Date.now() + 1500).toISOString() });
    expect((await console_.call("POST", path, gift)).status).toBe(409);
    await until(
      async () => (await as<{ gifts: [] }>(greta, "GET", "/given")).body.gifts.length === 0,
      "what was given does not end",
    );
  });
});
