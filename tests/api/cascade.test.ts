import { writeFileSync } from "node:fs";
import { join } from "node:path";
import { afterAll, beforeAll, describe, expect, it } from "vitest";
import { POLICY_VERSION } from "@/core/policy/cascade";
import { all } from "@/db/base/scope";
import { backUp, enrolMachine, makeClient, type TestClient, type TestMachine } from "../client";
import { TestConsole } from "../test-console";

let console_: TestConsole;
let client: TestClient;
let laptop: TestMachine;
let server: TestMachine;
let second: string;

interface Saved {
  readonly saved: boolean;
  readonly consentId: string | null;
  readonly effects: number;
  readonly policy: { readonly id: string; readonly revision: number };
}
interface Shown {
  readonly rules: {
    readonly howLong: { days: number };
    readonly what: { files: { folders: string[] } };
  } | null;
  readonly origins: Record<string, { level: string; name: string; pinned: boolean }>;
  readonly policyName: string | null;
}
const days = (count: number) => ({ howLong: { kind: "days", days: count } });
const rulesOf = async (machine: TestMachine): Promise<Shown> =>
  (
    await console_.ok<{ sources: (Shown & { id: string })[] }>("GET", `/sources?client=${client.id}`)
  ).sources.find((source) => source.id === machine.sourceId)!;
async function setRules(
  level: string,
  ownerId: string,
  clauses: object,
  pins: string[] = [],
): Promise<Saved> {
  const { policy } = await console_.ok<{ policy: { revision: number } | null }>(
    "GET",
    `/rules/${level}/${ownerId}`,
  );
  return console_.ok<Saved>("PUT", `/rules/${level}/${ownerId}`, {
    clauses,
    pins,
    reason: `for ${level}`,
    revision: policy?.revision ?? 0,
  });
}
async function setPolicy(
  change: (clauses: Record<string, unknown>) => object,
  more: object = {},
): Promise<Saved> {
  const { policy } = await console_.ok<{ policy: { revision: number; clauses: Record<string, unknown> } }>(
    "GET",
    `/policies/${client.policyId}`,
  );
  return console_.ok<Saved>("PUT", `/policies/${client.policyId}`, {
    name: "Everything",
    revision: policy.revision,
    clauses: change(policy.clauses),
    ...more,
  });
}
const system = <T extends object>(sql: string, values: unknown[] = []) =>
  console_.services.db.withScope({ role: "system" }, (tx) => all<T>(tx, sql, values));

beforeAll(async () => {
  console_ = await TestConsole.start();
  client = await makeClient(console_, "Pendlewick Housing Trust", { clauses: days(30) });
  laptop = await enrolMachine(console_, client, "pend-lt-07");
  server = await enrolMachine(console_, client, "pend-srv-01");
  second = await console_.addPerson({
    email: "tobin@lanternfold.example",
    name: "Tobin Asher",
    role: "technician",
    clientId: null,
  });
});
afterAll(() => console_?.stop());

describe("rules that cascade", () => {
  it("come from the policy, and from wider levels for what it leaves out", async () => {
    expect((await rulesOf(laptop)).origins.howLong).toMatchObject({ level: "group", name: "Everything" });
    await setRules("provider", "all", days(365));
    await setRules("client", client.id, days(90));
    expect((await rulesOf(laptop)).rules!.howLong.days).toBe(30);
    await setPolicy(({ howLong: _, ...others }) => others);
    expect(await rulesOf(laptop)).toMatchObject({
      rules: { howLong: { days: 90 } },
      origins: { howLong: { level: "client", name: "Pendlewick Housing Trust" } },
    });
    await setRules("site", client.siteId, days(120));
    expect((await rulesOf(laptop)).origins.howLong).toMatchObject({ level: "site" });
  });

  it("change for one source alone, and take effect on its next run", async () => {
    console_.runAgent(laptop.state);
    writeFileSync(join(laptop.root, "data/letter"), "kept");
    await setRules("source", laptop.sourceId, {
      what: { files: { folders: ["/data"], exclude: ["*.tmp"] } },
    });
    writeFileSync(join(laptop.root, "data/scratch.tmp"), "left out");
    const run = await backUp(console_, laptop.sourceId);
    expect(run).toMatchObject({ outcome: "clean", figures: { files: 1 } });
    expect((await rulesOf(laptop)).origins.what).toMatchObject({ level: "source" });
    expect((await rulesOf(server)).origins.what).toMatchObject({ level: "group" });
  });

  it("hold where a wider level pins them, and say so before anything is saved", async () => {
    await setRules("client", client.id, days(120), ["howLong"]);
    expect((await rulesOf(laptop)).origins.howLong).toMatchObject({ level: "client", pinned: true });
    const preview = await console_.ok<{
      total: number;
      effects: { overruled: string[]; changes: unknown[] }[];
    }>("POST", "/rules/preview", {
      owner: { level: "source", ownerId: laptop.sourceId },
      clauses: days(400),
      pins: [],
    });
    expect(preview).toMatchObject({ total: 1, effects: [{ overruled: ["howLong"] }] });
    // taking the pin away shortens nothing: the site says the same
    expect(await setRules("client", client.id, days(120))).toMatchObject({ saved: true });
  });

  it("are shown with old and new for every source that they would change, and nothing is saved", async () => {
    const before = await rulesOf(server);
    const preview = await console_.ok<{
      total: number;
      effects: { sourceName: string; changes: { clause: string; before: string; after: string }[] }[];
    }>("POST", "/rules/preview", {
      owner: { level: "site", ownerId: client.siteId },
      clauses: days(150),
      pins: [],
    });
    expect(preview.effects.map((effect) => [effect.sourceName, effect.changes])).toEqual([
      ["pend-lt-07 files", [{ clause: "howLong", before: "120 days", after: "150 days" }]],
      ["pend-srv-01 files", [{ clause: "howLong", before: "120 days", after: "150 days" }]],
    ]);
    expect(await rulesOf(server)).toEqual(before);
    expect((await console_.call("POST", "/rules/preview", { clauses: {} })).status).toBe(422);
  });

  it("stop a source when a clause is given at no level any more", async () => {
    await setPolicy(({ what: _, ...others }) => others);
    expect(await rulesOf(server)).toMatchObject({ rules: null });
    const refused = await console_.call<{ detail: string }>("POST", `/sources/${server.sourceId}/runs`);
    expect([refused.status, refused.body.detail]).toEqual([409, expect.stringContaining("not complete")]);
    await setPolicy((clauses) => ({ ...clauses, what: { files: { folders: ["/data"] } } }));
    expect((await rulesOf(server)).rules!.what.files.folders).toEqual(["/data"]);
  });

  it("keep every state with who and why, and go back to one", async () => {
    const { policy } = await console_.ok<{ policy: { id: string } }>("GET", `/rules/site/${client.siteId}`);
    await setRules("site", client.siteId, days(130));
    const history = async () =>
      (
        await console_.ok<{
          revisions: { revision: number; reason: string; changedBy: string; sentences: { text: string }[] }[];
        }>("GET", `/policies/${policy.id}/history`)
      ).revisions;
    expect((await history()).map(({ revision, reason, changedBy }) => [revision, reason, changedBy])).toEqual(
      [
        [2, "for site", "Ines Marlow"],
        [1, "for site", "Ines Marlow"],
      ],
    );
    await console_.ok("PUT", `/rules/site/${client.siteId}`, { clauses: days(140), revision: 2 });
    await console_.ok("POST", `/policies/${policy.id}/history/2`, {});
    // 140 to 130 days is shorter: a second person must agree
    const { consents } = await console_.ok<{ consents: { id: string; kind: string }[] }>("GET", "/consents");
    expect(consents).toMatchObject([{ kind: "shorten-retention" }]);
    expect((await rulesOf(server)).rules!.howLong.days).toBe(140);
    expect(
      (await console_.call("POST", `/consents/${consents[0]!.id}/decision`, { decision: "agreed" }, second))
        .status,
    ).toBe(200);
    expect((await rulesOf(server)).rules!.howLong.days).toBe(130);
    expect((await history())[0]).toMatchObject({ revision: 4, sentences: [{ text: "130 days" }] });
    expect((await console_.call("POST", `/policies/${policy.id}/history/9`, {})).status).toBe(404);
  });

  it("are not saved over a change of somebody else's", async () => {
    const late = await console_.call<{ errors: { field: string }[] }>("PUT", `/rules/site/${client.siteId}`, {
      clauses: days(400),
      revision: 1,
    });
    expect([late.status, late.body.errors[0]!.field]).toEqual([422, "revision"]);
  });
});

describe("keeping points for a shorter time", () => {
  it("waits for a second person; declined, nothing changes; a change meanwhile makes it void", async () => {
    const asked = await setRules("site", client.siteId, days(7));
    expect(asked).toMatchObject({ saved: false, consentId: expect.any(String) });
    const decide = (id: string, decision: string) =>
      console_.call<{ detail: string }>("POST", `/consents/${id}/decision`, { decision }, second);
    expect((await decide(asked.consentId!, "declined")).status).toBe(200);
    expect((await rulesOf(server)).rules!.howLong.days).toBe(130);
    const again = await setRules("site", client.siteId, days(8));
    await setRules("site", client.siteId, days(131));
    expect((await decide(again.consentId!, "agreed")).body.detail).toContain("was changed after");
    expect((await rulesOf(server)).rules!.howLong.days).toBe(131);
    // longer is nobody's second thought
    expect(await setRules("site", client.siteId, days(500))).toMatchObject({ saved: true });
  });
});

describe("policies that find their sources", () => {
  it("take new sources by their rule, and those that nobody looked after when the rule is saved", async () => {
    const { policy } = await console_.ok<Saved>("POST", "/policies", {
      clientId: client.id,
      name: "Laptops",
      clauses: { what: { files: { folders: ["/data"] } } },
      rule: { name: "*-lt-*", tag: "travels" },
    });
    await setPolicy((clauses) => clauses, { rule: { kind: "files", name: "pend-lt-09*" } });
    const nine = await enrolMachine(console_, client, "pend-lt-09");
    await console_.ok("PATCH", `/sources/${nine.sourceId}`, { policyId: null });
    expect((await rulesOf(nine)).policyName).toBeNull();
    expect(await system("select from sources where id = $1 and rules is null", [nine.sourceId])).toHaveLength(
      1,
    );
    await setPolicy((clauses) => clauses, { rule: null });
    await console_.ok("PATCH", `/sources/${nine.sourceId}`, { tags: ["Travels"] });
    expect((await rulesOf(nine)).policyName).toBe("Laptops");
    expect(policy.revision).toBe(1);
    const nothing = await console_.call<{ errors: { field: string; message: string }[] }>(
      "POST",
      "/policies",
      {
        clientId: client.id,
        name: "All",
        clauses: {},
        rule: {},
      },
    );
    expect(nothing.body.errors[0]).toMatchObject({
      field: "rule",
      message: expect.stringContaining("every source"),
    });
  });
});

describe("a policy as a file", () => {
  it("comes back for another client as it was, with depots by their names", async () => {
    const file = await console_.ok<Record<string, unknown>>("GET", `/policies/${client.policyId}/file`);
    expect(file).toMatchObject({
      format: "deep-keep-policy",
      version: POLICY_VERSION,
      clauses: { where: { depot: "Pendlewick Housing Trust depot" } },
    });
    const other = await makeClient(console_, "Kestrin Aquaculture");
    const imported = (body: object) =>
      console_.call<{ errors: { field: string; message: string }[]; policy: { clauses: object } }>(
        "POST",
        `/clients/${other.id}/policies/import`,
        body,
      );
    // its depot is not granted to this client
    expect((await imported({ ...file, name: "From a file" })).body.errors[0]).toMatchObject({
      field: "clauses.where.depotId",
    });
    await console_.ok("PUT", `/depots/${client.depotId}/grants/${other.id}`, { quotaBytes: 1e9 });
    const made = await imported({ ...file, name: "From a file" });
    expect(made.status).toBe(201);
    expect(made.body.policy.clauses).toMatchObject({ where: { depotId: client.depotId } });
    expect((await imported({ ...file, version: POLICY_VERSION + 1 })).body.errors[0]).toMatchObject({
      field: "version",
      message: expect.stringContaining("newer version"),
    });
    expect(
      (await imported({ ...file, clauses: { where: { depot: "Nowhere" } } })).body.errors[0],
    ).toMatchObject({
      field: "clauses.where.depot",
    });
    const schema = await console_.ok<{ properties: object }>("GET", "/policy-schema.json");
    expect(Object.keys(schema.properties)).toContain("clauses");
  });
});
