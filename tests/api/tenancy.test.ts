import { randomBytes, randomUUID } from "node:crypto";
import { readdirSync, readFileSync, writeFileSync } from "node:fs";
import { join } from "node:path";
import { afterAll, beforeAll, describe, expect, it } from "vitest";
import { type ExampleIds, exampleBodies } from "@/app/api/examples";
import { operations } from "@/app/api/operations";
import { all } from "@/db/base/scope";
import { backUp, enrolMachine, makeClient, type TestClient, type TestMachine } from "../client";
import { freshFolder } from "../depot";
import { TestConsole } from "../test-console";

let console_: TestConsole;
let mine: TestClient;
let theirs: TestClient;
let myMachine: TestMachine;
let theirMachine: TestMachine;
let portalToken: string;
/** One of the provider's technicians, of the first client alone; and a reader. */
let limitedToken: string;
let readerToken: string;
let theirIds: Record<string, string>;
/** A folder that could become a depot. */
const freshPlace = freshFolder("place");

beforeAll(async () => {
  console_ = await TestConsole.start();
  mine = await makeClient(console_, "Vossel & Daughters Bakery");
  theirs = await makeClient(console_, "Brackenfold Dental");
  myMachine = await enrolMachine(console_, mine, "voss-lt-01");
  theirMachine = await enrolMachine(console_, theirs, "brack-srv-01");
  writeFileSync(join(theirMachine.root, "data/x-ray"), randomBytes(50_000));
  console_.runAgent(theirMachine.state);
  const run = await backUp(console_, theirMachine.sourceId);
  const { id: archiveId } = await console_.ok<{ id: string }>("POST", "/restores/archives", {
    items: [{ pointId: run.figures.point, path: "/data" }],
    format: "tar",
  });
  portalToken = await console_.addPerson({
    email: "hanne@vossel.example",
    name: "Hanne Vossel",
    role: "manager",
    clientId: mine.id,
  });
  limitedToken = await console_.addPerson({
    email: "bryn@lanternfold.example",
    name: "Bryn Ashdown",
    role: "technician",
    clientId: null,
    clientIds: [mine.id],
  });
  readerToken = await console_.addPerson({
    email: "sela@lanternfold.example",
    name: "Sela Wynn",
    role: "reader",
    clientId: null,
  });
  const { person } = await console_.ok<{ person: { id: string } }>("POST", `/clients/${theirs.id}/people`, {
    name: "Ada Bracken",
    email: "ada@bracken.example",
    role: "person",
  });
  const { gift } = await console_.ok<{ gift: { id: string } }>("POST", `/clients/${theirs.id}/gifts`, {
    personId: person.id,
    sourceId: theirMachine.sourceId,
  });
  const { viewing } = await console_.ok<{ viewing: { id: string } }>(
    "POST",
    `/recovery-points/${run.figures.point}/viewings`,
    { people: [person.id], hours: 1 },
  );
  theirIds = {
    viewingId: viewing.id,
    personId: person.id,
    giftId: gift.id,
    clientId: theirs.id,
    sourceId: theirMachine.sourceId,
    policyId: theirs.policyId,
    depotId: theirs.depotId,
    siteId: theirs.siteId,
    advice: "one-place",
    webhookId: "00000000-0000-4000-8000-000000000000",
    messageId: "00000000-0000-4000-8000-000000000000",
    connectionId: theirMachine.machineId,
    runId: run.id,
    pointId: run.figures.point!,
    archiveId,
    level: "client",
    ownerId: theirs.id,
    revision: "1",
  };
});
afterAll(() => console_?.stop());

const fill = (path: string, ids: Record<string, string>) =>
  path.replace(/\{(\w+)\}/g, (_, name: string) => ids[name] ?? randomUUID());
const identity = (machine: TestMachine) =>
  JSON.parse(readFileSync(join(machine.state, "identity.json"), "utf8")) as { token: string };

/** Bodies that pass the checks, so that what answers is tenancy and not the schema. */
const bodyOf = (id: string): unknown =>
  exampleBodies({
    ...(theirIds as unknown as ExampleIds),
    folder: freshPlace,
    mailServer: "http://127.0.0.1:9",
  })[id] ?? {};

describe("the sweep itself", () => {
  it("has a body that passes the schema for each operation that takes one", () => {
    const withBody = operations.filter((one) => one.body);
    const without = withBody
      .filter((one) => !one.body!.safeParse(bodyOf(one.id)).success)
      .map((one) => one.id);
    expect(without).toEqual([]);
  });
});

/** Tables that change by themselves: signs of life, counters of attempts, work of the runner. */
const RESTLESS = [
  "machines",
  "runners",
  "api_tokens",
  "sessions",
  "rate_limits",
  "night_totals",
  "nights_counted",
  "usage_days",
  "usage_noted",
];
/** What is in the database and in a depot: a refused call leaves all of it as it was. */
async function stateNow(): Promise<string> {
  return console_.services.db.withScope({ role: "system" }, async (tx) => {
    const tables = await all<{ name: string }>(
      tx,
      "select relname as name from pg_class where relnamespace = 'public'::regnamespace and relkind = 'r' order by 1",
    );
    const parts: string[] = [];
    for (const { name } of tables.filter((one) => !RESTLESS.includes(one.name))) {
      const [row] = await all<{ hash: string | null }>(
        tx,
        `select md5(string_agg(t::text, E'\\n' order by t::text)) as hash from ${name} t`,
      );
      parts.push(`${name} ${row!.hash}`);
    }
    parts.push(...readdirSync(freshPlace));
    return parts.join("\n");
  });
}

describe("each route of the API", () => {
  const guarded = operations.filter((operation) => operation.caller !== "anyone");
  it.each(guarded.map((operation) => [operation.id, operation] as const))(
    "%s asks who one is",
    async (_id, operation) => {
      const answer = await console_.call(
        operation.method,
        fill(operation.path, theirIds),
        operation.method === "GET" ? undefined : bodyOf(operation.id),
        null,
      );
      expect(answer.status).toBe(401);
    },
  );

  const foreign = guarded.filter(
    ({ id, caller }) =>
      // what is one's own
      caller !== "account" &&
      !["me", "signOut", "listCodes", "policySchema", "listGiven", "listAsks"].includes(id),
  );
  const QUERY: Record<string, string> = {
    searchEntries: "?name=x",
    listVersions: "?path=/data",
    lookInside: "?path=/data/x-ray",
    readImage: "?path=/data/x-ray",
    compareVersions: `?path=/data/x-ray&since=${"0".repeat(32)}`,
    lookInsideGiven: "?path=/data/x-ray",
    readGivenImage: "?path=/data/x-ray",
    compareGiven: `?path=/data/x-ray&since=${"0".repeat(32)}`,
    searchSource: "?name=x",
    listChanges: `?since=${"0".repeat(32)}`,
    searchGivenMoments: "?name=x",
    searchGiven: "?name=x",
    listGivenVersions: "?path=/data",
    listMessagesInside: "?path=/Inbox",
    searchMessagesInside: "?line=keys",
    readMessageInside: "?path=/Inbox/x.eml",
    readMessageSource: "?path=/Inbox/x.eml",
    readAttachment: "?path=/Inbox/x.eml",
    readTableInside: "?schema=public&name=orders",
    listMessagesInsideGiven: "?path=/Inbox",
    searchMessagesInsideGiven: "?line=keys",
    readMessageInsideGiven: "?path=/Inbox/x.eml",
    readMessageSourceGiven: "?path=/Inbox/x.eml",
    readAttachmentGiven: "?path=/Inbox/x.eml",
  };
  const words = /Brackenfold|brack-srv-01/;
  it.each(foreign.map((operation) => [operation.id, operation] as const))(
    "%s is not there for another client's person",
    async (_id, operation) => {
      const before = await stateNow();
      const answer = await console_.call(
        operation.method,
        fill(operation.path, theirIds) + (QUERY[operation.id] ?? ""),
        operation.method === "GET" ? undefined : bodyOf(operation.id),
        portalToken,
      );
      expect(answer.status).toBe(404);
      expect(await stateNow()).toBe(before);
      expect(JSON.stringify(answer.body)).not.toContain("Brackenfold");
    },
  );

  it.each(foreign.map((operation) => [operation.id, operation] as const))(
    "%s shows a technician of some clients nothing of another",
    async (_id, operation) => {
      const before = await stateNow();
      const answer = await console_.call(
        operation.method,
        fill(operation.path, theirIds) + (QUERY[operation.id] ?? ""),
        operation.method === "GET" ? undefined : bodyOf(operation.id),
        limitedToken,
      );
      // refused means not done; and nothing about others' clients is written either way
      if (answer.status >= 400) expect(await stateNow()).toBe(before);
      if (operation.caller === "provider-work") expect(answer.status).toBe(403);
      expect(JSON.stringify(answer.body)).not.toMatch(words);
      expect(answer.status).not.toBe(500);
      if (operation.path.includes("{") && !SHARED.has(operation.id))
        expect([403, 404, 409, 422]).toContain(answer.status);
    },
  );
  // of nobody's client
  const SHARED = new Set(["exportPolicy"]);

  it.each(
    foreign.filter(({ method }) => method !== "GET").map((operation) => [operation.id, operation] as const),
  )("%s is refused to a reader", async (_id, operation) => {
    const before = await stateNow();
    const answer = await console_.call(
      operation.method,
      fill(operation.path, theirIds),
      bodyOf(operation.id),
      readerToken,
    );
    expect(await stateNow()).toBe(before);
    // what is worked out and not changed is theirs to ask for
    expect(answer.status).toBe(operation.caller === "look" ? 200 : 403);
  });

  it.each(guarded.map((operation) => [operation.id, operation] as const))(
    "%s takes no machine's token",
    async (_id, operation) => {
      const answer = await console_.call(
        operation.method,
        fill(operation.path, theirIds),
        operation.method === "GET" ? undefined : bodyOf(operation.id),
        identity(myMachine).token,
      );
      expect(answer.status).toBe(401);
    },
  );

  it("shows a portal user their own statement, and nothing of the other client in it", async () => {
    const answer = await console_.call("GET", `/clients/${mine.id}/statement`, undefined, portalToken);
    expect(answer.status).toBe(200);
    expect(JSON.stringify(answer.body)).not.toContain("brack-srv-01");
  });
});

describe("each route of the agents", () => {
  const agentCall = (machine: TestMachine, method: string, path: string, body?: BodyInit) =>
    fetch(`${console_.url}/agent/v1/${path}`, {
      method,
      headers: { authorization: `Bearer ${identity(machine).token}` },
      ...(body === undefined ? {} : { body }),
    });
  const json = (value: unknown) => JSON.stringify(value);
  const ids = new Uint8Array(32);
  const pack = "00".repeat(16);
  const point = {
    attempt: 1,
    pointId: pack,
    object: "",
    root: "00".repeat(32),
    counts: { files: 0, folders: 0, links: 0, bytes: 0 },
    cautions: 0,
    code: null,
    figures: {
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
    },
  };
  const routes = (run: string, depot: string): [string, string, BodyInit?][] => [
    ["POST", `runs/${run}/heartbeat`, json({ attempt: 1 })],
    ["POST", `runs/${run}/log`, json({ lines: [] })],
    ["POST", `runs/${run}/known`, ids],
    ["PUT", `runs/${run}/packs/${pack}?chunks=1`, new Uint8Array(64)],
    ["POST", `runs/${run}/point`, json(point)],
    [
      "POST",
      `runs/${run}/end`,
      json({ attempt: 1, outcome: "failed", code: null, message: null, figures: {} }),
    ],
    ["POST", `runs/${run}/depots/${depot}/locate`, ids],
    ["GET", `runs/${run}/depots/${depot}/packs/${pack}`],
  ];

  it("are not there for another client's machine", async () => {
    for (const [method, path, body] of routes(theirIds.runId!, theirs.depotId)) {
      expect((await agentCall(myMachine, method, path, body)).status, `${method} ${path}`).toBe(404);
    }
  });

  it("are refused without a token", async () => {
    for (const [method, path, body] of routes(theirIds.runId!, theirs.depotId)) {
      const answer = await fetch(`${console_.url}/agent/v1/${path}`, {
        method,
        ...(body === undefined ? {} : { body }),
      });
      expect(answer.status).toBe(401);
    }
  });

  it("neither list, nor overwrite, nor delete, nor read outside a restore", async () => {
    for (const method of ["GET", "DELETE", "PUT"]) {
      for (const path of ["packs", "points", `depots/${theirs.depotId}`, `runs/${theirIds.runId}/packs`]) {
        expect([404, 405]).toContain(
          (await agentCall(theirMachine, method, path, method === "PUT" ? "x" : undefined)).status,
        );
      }
    }
    const [{ id: packId } = { id: Buffer.alloc(0) }] = await console_.services.db.withScope(
      { role: "system" },
      (tx) => all<{ id: Buffer }>(tx, "select id from packs"),
    );
    const known = packId.toString("hex");
    // the run is a backup that has ended: its own machine reads nothing through it either
    expect(
      (await agentCall(theirMachine, "GET", `runs/${theirIds.runId}/depots/${theirs.depotId}/packs/${known}`))
        .status,
    ).toBeGreaterThanOrEqual(400);
    expect(
      (
        await agentCall(
          theirMachine,
          "PUT",
          `runs/${theirIds.runId}/packs/${known}?chunks=1`,
          new Uint8Array(64),
        )
      ).status,
    ).toBe(409);
  });

  it("refuse a machine that was taken away", async () => {
    const gone = await enrolMachine(console_, mine, "voss-lt-09");
    await console_.ok("DELETE", `/connections/${gone.machineId}`);
    expect((await agentCall(gone, "POST", "work", json({ kinds: ["backup"] }))).status).toBe(401);
  });
});

/** Tables with a client, from the catalogue. */
const clientTables = () =>
  console_.services.db.withScope({ role: "system" }, (tx) =>
    all<{ name: string; secured: boolean; narrowed: boolean }>(
      tx,
      `select c.relname as name, c.relrowsecurity as secured,
         exists (select from pg_policy p where p.polrelid = c.oid and not p.polpermissive and p.polcmd in ('*', 'r')) as narrowed
       from pg_class c join pg_attribute a on a.attrelid = c.oid and a.attname = 'client_id'
       where c.relnamespace = 'public'::regnamespace and c.relkind = 'r' order by 1`,
    ),
  );

describe("the database itself", () => {
  it("has every table that belongs to clients under row-level security, narrowed for who is limited to some", async () => {
    const tables = await clientTables();
    expect(tables.length).toBeGreaterThan(40);
    expect(tables.filter((one) => !one.secured || !one.narrowed)).toEqual([]);
  });

  it("shows another client's rows to nobody, whatever is asked", async () => {
    const tables = (await clientTables()).map((one) => one.name);
    const person = randomUUID();
    for (const scope of [
      { role: "client", clientId: mine.id, personId: person },
      { role: "person", clientId: mine.id, personId: person },
      { role: "machine", clientId: mine.id },
      { role: "provider", clientIds: [mine.id] },
    ] as const) {
      const { role } = scope;
      await console_.services.db.withScope(scope, async (tx) => {
        for (const table of tables) {
          const [row] = await all<{ other: number }>(
            tx,
            `select count(*)::int as other from ${table} where client_id <> $1`,
            [mine.id],
          );
          expect(row!.other, `${role} ${table}`).toBe(0);
        }
        expect((await all(tx, "select from clients where id <> $1", [mine.id])).length).toBe(0);
        expect((await all(tx, "select from sessions union all select from api_tokens")).length).toBe(0);
        const depots = await all<{ name: string }>(tx, "select name from depots");
        expect(depots.filter((depot) => depot.name !== "Vossel & Daughters Bakery depot")).toEqual([]);
      });
    }
  });

  it("shows nothing without a scope, and lets a client's people change nothing", async () => {
    const tx = await console_.services.db.pool.connect();
    try {
      for (const table of ["clients", "people", "machines", "runs", "trail"])
        expect((await tx.query(`select from ${table}`)).rowCount, table).toBe(0);
    } finally {
      tx.release();
    }
    await console_.services.db.withScope({ role: "client", clientId: mine.id }, async (own) => {
      expect((await own.query("update sources set paused = true")).rowCount).toBe(0);
      expect((await own.query("delete from enrolment_codes")).rowCount).toBe(0);
    });
  });

  it("keeps trail and log append-only for the application", async () => {
    for (const sql of [
      "delete from trail",
      "update trail set actor = 'x'",
      "insert into trail (id) values (1)",
      "update run_log set message = ''",
      "delete from run_log",
      "drop table runs",
      "truncate runs",
    ]) {
      await expect(
        console_.services.db.withScope({ role: "system" }, (tx) => tx.query(sql)),
        sql,
      ).rejects.toThrow(/permission denied|must be owner|cannot insert/);
    }
  });

  it("seals the client's key: its bytes are not in the database", async () => {
    const [row] = await console_.services.db.withScope({ role: "system" }, (tx) =>
      all<{ sealed: Buffer }>(tx, "select sealed from client_keys where client_id = $1", [mine.id]),
    );
    const key = await console_.services.spaces.dataKey(mine.id);
    expect(row!.sealed.includes(key)).toBe(false);
  });
});
