import { mkdirSync, readdirSync, readFileSync, rmSync, writeFileSync } from "node:fs";
import { request as ask, createServer, type Server } from "node:http";
import type { AddressInfo } from "node:net";
import { join } from "node:path";
import { afterAll, beforeAll, describe, expect, it } from "vitest";
import { backUp, enrolMachine, makeClient, type TestClient } from "../client";
import { freshFolder } from "../depot";
import { TestConsole } from "../test-console";

let console_: TestConsole;
let client: TestClient;
beforeAll(async () => {
  console_ = await TestConsole.start();
  client = await makeClient(console_, "Kestrin Aquaculture");
});
afterAll(() => console_?.stop());

interface ProblemBody {
  readonly status: number;
  readonly code: string;
  readonly detail: string;
  readonly remedy: string;
  readonly errors: { field: string; message: string }[];
}
const refused = async (method: string, path: string, body: unknown) =>
  (await console_.call<ProblemBody>(method, path, body)).body;
const clauses = (change: object = {}) => ({
  what: { files: { folders: ["/data"] } },
  when: { schedules: [{ rule: "FREQ=DAILY;BYHOUR=21;BYMINUTE=30" }], targetHours: 24 },
  howLong: { kind: "for-ever" },
  where: { depotId: client.depotId },
  ...change,
});

describe("bad input is told at its field, and nothing is half-written", () => {
  it.each([
    [
      "POST",
      "/clients",
      { name: "", zone: "Mars/Base", region: "r", contactName: "c", contactEmail: "no", sites: [] },
      ["name", "zone", "contactEmail", "sites"],
    ],
    [
      "POST",
      "/clients",
      {
        name: "Twice",
        zone: "UTC",
        region: "r",
        contactName: "c",
        contactEmail: "c@x.example",
        sites: ["A", "a"],
      },
      ["sites.1"],
    ],
    ["POST", "/depots", { name: "X", path: "relative", region: "r" }, ["path"]],
    ["POST", "/depots", { name: "X", path: "/nowhere/at/all", region: "r" }, ["path"]],
    [
      "POST",
      "/setup",
      { provider: "P", zone: "UTC", name: "n", email: "e@x.example", password: "short" },
      ["password"],
    ],
  ])("%s %s", async (method, path, body, fields) => {
    const problem = await refused(method, path, body);
    expect(problem.status).toBe(422);
    expect(problem.errors.map((error) => error.field)).toEqual(fields);
    for (const error of problem.errors) expect(error.message.length).toBeGreaterThan(8);
  });

  it("leaves no client behind whose site was refused", async () => {
    const { clients } = await console_.ok<{ clients: { name: string }[] }>("GET", "/clients");
    expect(clients.map((one) => one.name)).toEqual(["Kestrin Aquaculture"]);
  });

  it.each([
    [
      "a time that does not exist",
      { when: { schedules: [{ rule: "FREQ=DAILY;BYHOUR=24;BYMINUTE=10" }], targetHours: 24 } },
      "clauses.when.schedules.0.rule",
    ],
    [
      "a week without days",
      { when: { schedules: [{ rule: "FREQ=MONTHLY;BYMONTHDAY=31;BYMONTH=2" }], targetHours: 24 } },
      "clauses.when.schedules.0.rule",
    ],
    [
      "a pattern that leaves everything out",
      { what: { files: { folders: ["/data"], exclude: ["**"] } } },
      "clauses.what.files.exclude",
    ],
    [
      "a depot that is not granted",
      { where: { depotId: "6f1c2a4e-93f5-4c0b-8a43-6e8f7a2d5b10" } },
      "clauses.where.depotId",
    ],
  ])("a policy with %s", async (_what, change, fieldName) => {
    const problem = await refused("POST", "/policies", {
      clientId: client.id,
      name: "Odd",
      clauses: clauses(change),
    });
    expect(problem.errors[0]).toMatchObject({ field: fieldName });
    const { policies } = await console_.ok<{ policies: { name: string }[] }>(
      "GET",
      `/policies?client=${client.id}`,
    );
    expect(policies.map((policy) => policy.name)).not.toContain("Odd");
  });

  it.each([
    ["PATCH", "/depots/DEPOT", { atOnce: 7, atonce: 3 }, "atonce"],
    [
      "PUT",
      "/clients/CLIENT/limits",
      { atOnce: 7, bandwidth: [{ kibPerSecond: 64, hour: 3 }] },
      "bandwidth.0.hour",
    ],
    ["GET", "/usage?client=CLIENT", undefined, "client"],
    ["GET", "/mail-server?name=x", undefined, "name"],
  ])("a field that nobody reads: %s %s %o", async (method, path, body, field) => {
    const { depotId, id } = client;
    const problem = await refused(method, path.replace("DEPOT", depotId).replace("CLIENT", id), body);
    expect(problem).toMatchObject({ status: 422, code: "request.invalid", errors: [{ field }] });
    expect(problem.errors[0]!.message).toContain(`Unknown field “${field}”. Nothing was changed.`);
    for (const kept of ["/depots", "/clients"])
      expect(JSON.stringify((await console_.call("GET", kept)).body)).not.toContain('"atOnce":7');
  });

  it("takes no JSON for what it is not", async () => {
    expect((await console_.call("POST", "/clients", "{")).body).toMatchObject({
      code: "request.invalid",
      detail: "The request body is not valid JSON.",
    });
    expect((await console_.call("POST", "/nothing/here", {})).status).toBe(404);
    expect((await console_.call("DELETE", "/clients", {})).body).toMatchObject({
      code: "request.method",
    });
    expect((await console_.call("GET", "/clients/not-an-id")).status).toBe(404);
  });

  it("does not let one person overwrite another's change of a policy", async () => {
    const { policy } = await console_.ok<{ policy: { id: string } }>("POST", "/policies", {
      clientId: client.id,
      name: "Shared",
      clauses: clauses(),
    });
    await console_.ok("PUT", `/policies/${policy.id}`, { name: "Shared", revision: 1, clauses: clauses() });
    const problem = await refused("PUT", `/policies/${policy.id}`, {
      name: "Shared",
      revision: 1,
      clauses: clauses(),
    });
    expect(problem.errors[0]!.message).toMatch(/changed this policy in the meantime/);
  });
});

describe("a depot is tried step by step", () => {
  it("says which step fails", async () => {
    const file = join(freshFolder("nodepot"), "file");
    writeFileSync(file, "");
    const test = await console_.ok<{ ok: boolean; steps: { step: string; ok: boolean; message: string }[] }>(
      "POST",
      "/depots/test",
      { path: file },
    );
    expect(test.ok).toBe(false);
    expect(test.steps).toHaveLength(1);
    expect(test.steps[0]!.message).toMatch(/is not a folder/);
  });

  it("warns of the system volume, leaves nothing behind, and knows a depot again", async () => {
    const path = freshFolder("newdepot");
    const test = await console_.ok<{ ok: boolean; warnings: string[]; steps: unknown[] }>(
      "POST",
      "/depots/test",
      { path },
    );
    expect(test).toMatchObject({ ok: true });
    expect(test.steps).toHaveLength(8);
    expect(test.warnings[0]).toMatch(/system volume/);
    expect(readdirSync(path)).toEqual([]);
    const problem = await refused("POST", "/depots", { name: "Twice", path: client.depotPath, region: "r" });
    expect(problem.errors[0]!.message).toMatch(/is a depot already/);
    const again = await console_.ok<{ ok: boolean }>("POST", `/depots/${client.depotId}/test`);
    expect(again.ok).toBe(true);
  });

  it("is refused where nothing can be written", async () => {
    const test = await console_.ok<{ ok: boolean; steps: { ok: boolean; step: string; message: string }[] }>(
      "POST",
      "/depots/test",
      { path: "/proc" },
    );
    expect(test.ok).toBe(false);
    expect(["Check write permission", "Write a probe"]).toContain(test.steps.find((step) => !step.ok)!.step);
    const problem = await refused("POST", "/depots", { name: "Proc", path: "/proc", region: "r" });
    expect(problem.errors[0]).toMatchObject({ field: "path" });
    expect(problem.errors[0]!.message).toMatch(/It cannot serve as a depot/);
  });

  it("does not move in where other things lie, but where only a file system put something", async () => {
    const path = freshFolder("others");
    mkdirSync(join(path, "lost+found"));
    writeFileSync(join(path, "letters.odt"), "somebody's");
    const wish = { name: "Cupboard", path, region: "r" };
    const problem = await refused("POST", "/depots", wish);
    expect(problem.errors[0]!.message).toMatch(/The location is not empty: “letters\.odt” for one, in /);
    expect(readdirSync(path).sort()).toEqual(["letters.odt", "lost+found"]);
    rmSync(join(path, "letters.odt"));
    await console_.ok("POST", "/depots", wish);
  });

  it("does not move in where another depot lies", async () => {
    const path = freshFolder("another");
    const wish = { name: "Shelf", path, region: "r" };
    await console_.ok("POST", "/depots", wish);
    const test = await console_.ok<{ ok: boolean; code: string }>("POST", "/depots/test", { path });
    expect(test).toMatchObject({ ok: false, code: "depot.not-empty" });
    expect(JSON.stringify(test)).toContain("The location is not empty: a depot");
  });

  it("is not taken for an empty one when its disk is not mounted", async () => {
    const path = freshFolder("unmounted");
    const { depot } = await console_.ok<{ depot: { id: string } }>("POST", "/depots", {
      name: "Drawer",
      path,
      region: "r",
    });
    rmSync(join(path, "deep-keep-depot.json"));
    const test = await console_.ok<{ ok: boolean; code: string }>("POST", `/depots/${depot.id}/test`);
    expect(test).toMatchObject({ ok: false, code: "depot.not-a-depot" });
  });
});

describe("the client's key", () => {
  it("is shown once, confirmed by a group of its sheet, and never replaced afterwards", async () => {
    const { client: fresh } = await console_.ok<{ client: { id: string } }>("POST", "/clients", {
      name: "Ostrel",
      zone: "UTC",
      region: "r",
      contactName: "c",
      contactEmail: "c@x.example",
      sites: ["Office"],
    });
    const first = await console_.ok<{ groups: string[]; askedGroup: number }>(
      "POST",
      `/clients/${fresh.id}/key`,
    );
    const second = await console_.ok<{ groups: string[]; askedGroup: number }>(
      "POST",
      `/clients/${fresh.id}/key`,
    );
    expect(second.groups).toHaveLength(13);
    const slip = await refused("POST", `/clients/${fresh.id}/key/confirm`, { group: "00000" });
    expect(slip.errors[0]!.field).toBe("group");
    expect(
      (await refused("POST", `/clients/${fresh.id}/key/confirm`, { group: first.groups[second.askedGroup] }))
        .status,
    ).toBe(422);
    await console_.ok("POST", `/clients/${fresh.id}/key/confirm`, {
      group: second.groups[second.askedGroup]!.toLowerCase(),
    });
    expect((await refused("POST", `/clients/${fresh.id}/key`, undefined)).code).toBe("request.conflict");
    expect(JSON.stringify(await console_.ok("GET", `/clients/${fresh.id}/key`))).not.toContain(
      second.groups[0]!,
    );
  });

  it("keeps a source from running until it is confirmed", async () => {
    const { client: fresh, sites } = await console_.ok<{
      client: { id: string; slug: string };
      sites: { id: string }[];
    }>("POST", "/clients", {
      name: "Pendlewick",
      zone: "UTC",
      region: "r",
      contactName: "c",
      contactEmail: "c@x.example",
      sites: ["House"],
    });
    await console_.ok("PUT", `/depots/${client.depotId}/grants/${fresh.id}`, { quotaBytes: 1024 ** 3 });
    const { policy } = await console_.ok<{ policy: { id: string } }>("POST", "/policies", {
      clientId: fresh.id,
      name: "P",
      clauses: clauses(),
    });
    const machine = await enrolMachine(
      console_,
      { ...client, ...fresh, siteId: sites[0]!.id, policyId: policy.id },
      "pend-srv-01",
    );
    expect((await refused("POST", `/sources/${machine.sourceId}/runs`, undefined)).code).toBe(
      "key.not-confirmed",
    );
  });
});

describe("enrolment", () => {
  it("takes a code as often as was said, and not when it has expired", async () => {
    const { code } = await console_.ok<{ code: string }>("POST", `/clients/${client.id}/enrolment-codes`, {
      siteId: client.siteId,
      uses: 1,
    });
    const enrol = (text: string) =>
      console_.agent([
        "enrol",
        "--console",
        console_.url,
        "--code",
        text,
        "--name",
        "kest-01",
        "--root",
        freshFolder("m"),
        "--state",
        join(freshFolder("s"), "x"),
      ]);
    expect((await enrol(code.toLowerCase())).code).toBe(0);
    const again = await enrol(code);
    expect(again.code).toBe(1);
    expect(again.output).toMatch(/unknown, expired or used up/);
    const late = await console_.ok<{ code: string }>("POST", `/clients/${client.id}/enrolment-codes`, {
      siteId: client.siteId,
    });
    await console_.services.db.withScope({ role: "system" }, (tx) =>
      tx.query("update enrolment_codes set expires_at = now() - interval '1 second'"),
    );
    expect((await enrol(late.code)).output).toMatch(/expired/);
  });

  it("does not enrol a machine twice over itself, and says when the console is not there", async () => {
    const machine = await enrolMachine(console_, client, "kest-02");
    expect(
      (await console_.agent(["enrol", "--console", console_.url, "--code", "X", "--state", machine.state]))
        .output,
    ).toMatch(/already enrolled/);
    expect(
      (
        await console_.agent([
          "enrol",
          "--console",
          "http://127.0.0.1:1",
          "--code",
          "X",
          "--state",
          join(freshFolder("s"), "x"),
        ])
      ).output,
    ).toMatch(/does not answer/);
    expect((await console_.agent(["run", "--state", freshFolder("s")])).output).toMatch(/not enrolled/);
  });

  it("moves to another address of its console while it runs, and to none that does not know it", async () => {
    const machine = await enrolMachine(console_, client, "kest-03");
    const identity = () => JSON.parse(readFileSync(join(machine.state, "identity.json"), "utf8")) as object;
    const before = identity();
    const move = (to: string) => console_.agent(["move", "--console", to, "--state", machine.state]);
    // a console that answers, and knows no machine of this name
    const stranger = createServer((_, response) =>
      response
        .writeHead(401, { "content-type": "application/problem+json" })
        .end(JSON.stringify({ code: "auth.needed" })),
    );
    // the console's new name: whatever is asked there goes to it
    const front = createServer((request, response) => {
      const { host: _, ...headers } = request.headers;
      const on = ask(new URL(request.url!, console_.url), { method: request.method, headers }, (answer) => {
        response.writeHead(answer.statusCode!, answer.headers);
        answer.pipe(response);
      });
      on.on("error", () => response.destroy());
      request.pipe(on);
    });
    for (const server of [stranger, front])
      await new Promise<void>((resolve) => server.listen(0, "127.0.0.1", resolve));
    const left = createServer();
    await new Promise<void>((resolve) => left.listen(0, "127.0.0.1", resolve));
    const at = (server: Server) => `http://127.0.0.1:${(server.address() as AddressInfo).port}`;
    const gone = at(left);
    await new Promise((resolve) => left.close(resolve));
    try {
      for (const [to, why] of [
        [at(stranger), /does not know this machine; the address stays/],
        [gone, /does not answer: .*ECONNREFUSED.*The address stays/],
        ["console.lanternfold.example", /begins with https:/],
      ] as const) {
        const refused = await move(to);
        expect([to, refused.code]).toEqual([to, 1]);
        expect(refused.output).toMatch(why);
        expect(identity()).toEqual(before);
      }
      // the console has left the address that the running agent knows
      writeFileSync(join(machine.state, "identity.json"), JSON.stringify({ ...before, console: gone }));
      console_.runAgent(machine.state);
      const moved = await move(`${at(front)}/`);
      expect(moved.output).toContain(`now reports to ${at(front)} (before: ${gone})`);
      expect(identity()).toEqual({ ...before, console: at(front) });
      expect((await backUp(console_, machine.sourceId)).outcome).toBe("clean");
    } finally {
      await console_.stopAgents();
      for (const server of [stranger, front]) {
        server.closeAllConnections();
        server.close();
      }
    }
  });
});

describe("signing in", () => {
  const signIn = (email: string, password: string) =>
    console_.call<ProblemBody>("POST", "/sessions", { email, password }, null);

  it("gives a session that is http-only and ends when signed out", async () => {
    const answer = await signIn("ines@lanternfold.example", console_.password);
    const cookie = answer.headers.get("set-cookie")!;
    expect(cookie).toMatch(/HttpOnly; SameSite=Lax/);
    const session = { cookie: cookie.split(";")[0]! };
    expect((await console_.call("GET", "/me", undefined, null, session)).status).toBe(200);
    expect(
      (
        await console_.call("DELETE", "/sessions/current", undefined, null, {
          ...session,
          origin: "https://elsewhere.example",
        })
      ).status,
    ).toBe(403);
    expect(
      (
        await console_.call("DELETE", "/sessions/current", undefined, null, {
          ...session,
          origin: console_.url,
        })
      ).status,
    ).toBe(200);
    expect((await console_.call("GET", "/me", undefined, null, session)).status).toBe(401);
  });

  it("binds it to this host and to TLS, where a proxy ends that", async () => {
    const over = { "x-forwarded-proto": "https" };
    const answer = await console_.call(
      "POST",
      "/sessions",
      { email: "ines@lanternfold.example", password: console_.password },
      null,
      over,
    );
    const cookie = answer.headers.get("set-cookie")!;
    expect(cookie).toMatch(
      /^__Host-deepkeep_session=[^;]+; Path=\/; HttpOnly; SameSite=Lax; Max-Age=\d+; Secure$/,
    );
    const pair = cookie.split(";")[0]!;
    const status = async (headers: Record<string, string>) =>
      (await console_.call("GET", "/me", undefined, null, headers)).status;
    expect(await status({ cookie: pair, ...over })).toBe(200);
    // one that another host of the domain could have planted is none
    expect(await status({ cookie: pair.replace("__Host-", ""), ...over })).toBe(401);
  });

  it("tells nothing of who exists, and makes guessing slow", async () => {
    const wrong = await signIn("ines@lanternfold.example", "wrong");
    const nobody = await signIn("nobody@lanternfold.example", "wrong");
    expect(wrong.status).toBe(401);
    expect(nobody.body.detail).toBe(wrong.body.detail);
    for (let i = 0; i < 9; i += 1) await signIn("nobody@lanternfold.example", "wrong");
    expect((await signIn("nobody@lanternfold.example", "wrong")).status).toBe(429);
  });

  it("makes an owner once only", async () => {
    const problem = await refused("POST", "/setup", {
      provider: "P",
      zone: "UTC",
      name: "n",
      email: "e@x.example",
      password: "long enough words",
    });
    expect(problem.code).toBe("request.conflict");
  });
});

describe("the API as such", () => {
  it("does a creating request once for an Idempotency-Key", async () => {
    const body = {
      name: "Once",
      zone: "UTC",
      region: "r",
      contactName: "c",
      contactEmail: "c@x.example",
      sites: ["s"],
    };
    const key = { "idempotency-key": "abc" };
    const first = await console_.call("POST", "/clients", body, console_.token, key);
    const second = await console_.call("POST", "/clients", body, console_.token, key);
    expect(second).toMatchObject({ status: 201, body: first.body });
    expect(
      (await console_.call("POST", "/clients", { ...body, name: "Other" }, console_.token, key)).status,
    ).toBe(409);
  });

  it("answers no more than so much in a minute, to each caller by themself", async () => {
    const person = { clientId: null, name: "Hasty Program", role: "technician" } as const;
    const hasty = await console_.addPerson({ ...person, email: "hasty@lanternfold.example" });
    const asked = () => console_.call<{ detail: string }>("POST", "/restores/weight", {}, hasty);
    const answers = [];
    for (let i = 0; i < 16; i += 1) answers.push(...(await Promise.all(Array.from({ length: 20 }, asked))));
    expect([...new Set(answers.map(({ status }) => status))]).toEqual([422, 429]);
    expect(answers.filter(({ status }) => status === 422)).toHaveLength(300);
    expect(answers.at(-1)!.body.detail).toMatch(/^Rate limit reached\. Try again in \d+ s\.$/);
    // what costs little is still answered, and so is everybody else
    expect((await console_.call("GET", "/session", undefined, hasty)).status).not.toBe(429);
    expect((await console_.call("POST", "/restores/weight", {})).status).toBe(422);
  });
  it("describes itself as OpenAPI 3.1, every operation of it", async () => {
    const document = await console_.ok<{ openapi: string; paths: Record<string, object> }>(
      "GET",
      "/openapi.json",
    );
    expect(document.openapi).toBe("3.1.0");
    expect(Object.keys(document.paths)).toContain("/recovery-points/{pointId}/entries");
  });

  it("sends headers that keep pages from being framed or sniffed", async () => {
    const { headers } = await fetch(`${console_.url}/sign-in`);
    expect(headers.get("x-frame-options")).toBe("DENY");
    expect(headers.get("x-content-type-options")).toBe("nosniff");
  });

  it("says what will follow from clauses, in both zones", async () => {
    const { client: far } = await console_.ok<{ client: { id: string } }>("POST", "/clients", {
      name: "Far",
      zone: "Pacific/Auckland",
      region: "r",
      contactName: "c",
      contactEmail: "c@x.example",
      sites: ["s"],
    });
    const follows = await console_.ok<{ next: string[]; zonesDiffer: boolean; providerZone: string }>(
      "POST",
      "/policies/consequences",
      {
        clientId: far.id,
        clauses: {
          when: { schedules: [{ rule: "FREQ=DAILY;BYHOUR=23;BYMINUTE=30" }], targetHours: 26 },
          howLong: { kind: "for-ever" },
        },
      },
    );
    expect(follows.next).toHaveLength(10);
    expect(follows).toMatchObject({ zonesDiffer: true, providerZone: "Europe/London" });
  });
});

describe("a list in pages", () => {
  interface Page {
    readonly past?: readonly { readonly id: string }[];
    readonly messages?: readonly { readonly id: string }[];
    readonly next: string | null;
  }
  const idsOf = (page: Page) => (page.past ?? page.messages)!.map((row) => row.id);
  async function inPages(path: string, limit: number): Promise<string[]> {
    const ids: string[] = [];
    for (let cursor: string | null = ""; cursor !== null; ) {
      const page: { status: number; body: Page } = await console_.call<Page>(
        "GET",
        `${path}&limit=${limit}${cursor && `&cursor=${cursor}`}`,
      );
      expect(page).toMatchObject({ status: 200 });
      ids.push(...idsOf(page.body));
      cursor = page.body.next;
    }
    return ids;
  }

  it("gives every row once, also where many share a moment, and whatever the size of the page", async () => {
    const machine = await enrolMachine(console_, client, "Paged");
    await console_.services.db.withScope({ role: "system" }, async (tx) => {
      // three moments a few microseconds apart: nothing shorter than a millisecond can be told by a JavaScript date
      await tx.query(
        `insert into runs (id, client_id, source_id, machine_id, kind, cause, due_at, state, outcome, ended_at)
         select gen_random_uuid(), $1, $2, $3, 'backup', 'schedule',
           '2026-03-01 20:00:00.000001+00'::timestamptz + (n % 3) * interval '7 microseconds', 'ended', 'clean', now()
         from generate_series(1, 13) n`,
        [client.id, machine.sourceId, machine.machineId],
      );
      await tx.query(
        `insert into messages (id, client_id, recipient, subject, body, made_at, sent_at)
         select gen_random_uuid(), $1, 'mail:sefa@kestrin.example', 'Page ' || n, '', '2026-03-01 20:00:00+00', now() from generate_series(1, 7) n`,
        [client.id],
      );
    });
    for (const [path, count] of [
      [`/runs?source=${machine.sourceId}`, 13],
      [`/messages?client=${client.id}`, 7],
    ] as const) {
      const whole = await inPages(path, 500);
      expect(new Set(whole).size).toBeGreaterThanOrEqual(count);
      for (const limit of [1, 4, count]) expect(await inPages(path, limit)).toEqual(whole);
    }
    // the cursor of another list, or none of ours
    for (const cursor of ["nonsense", Buffer.from(client.id).toString("base64url")])
      expect((await console_.call("GET", `/runs?cursor=${cursor}`)).body).toMatchObject({
        status: 422,
        errors: [{ field: "cursor", message: expect.stringContaining("first page") }],
      });
  }, 60_000);
});
