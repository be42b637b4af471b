import { createHash } from "node:crypto";
import { readdirSync, readFileSync, statSync } from "node:fs";
import { request } from "node:http";
import { connect } from "node:net";
import { join } from "node:path";
import { generate } from "otplib";
import { afterAll, beforeAll, describe, expect, it } from "vitest";
import { operations } from "@/app/api/operations";
import { insertToken } from "@/db/access/sessions";
import { all, change } from "@/db/base/scope";
import { keepHouse } from "@/runs/housekeeping";
import { MailDrop, readDrop } from "@/standins/inbox/mail-drop";
import { hashSecret, randomSecret } from "@/store/seal/secrets";
import { backUp, enrolMachine, makeClient, type TestClient, type TestMachine } from "../client";
import { freshFolder } from "../depot";
import { TestConsole, until } from "../test-console";

let console_: TestConsole;
let mine: TestClient;
let theirs: TestClient;
let machine: TestMachine;
/** Every secret that these tests were shown or gave; none may lie anywhere in clear. */
const secrets = new Set<string>();
const kept = <T extends string>(secret: T): T => {
  secrets.add(secret);
  return secret;
};
const LONG = kept("flour on the harbour steps");
const drop = new MailDrop(freshFolder("drop"));

const system = <T>(sql: string, values: unknown[] = []) =>
  console_.services.db.withScope({ role: "system" }, (tx) => all<T>(tx, sql, values));
const cookieOf = (headers: Headers) => kept(headers.get("set-cookie")!.split(";")[0]!.split("=")[1]!);
const withSession = (session: string) => ({ cookie: `deepkeep_session=${session}`, origin: console_.url });
const asked = <T = Record<string, never>>(method: string, path: string, session: string, body?: unknown) =>
  console_.call<T>(method, path, body, null, withSession(session));
const signIn = (email: string, password: string, code?: string) =>
  console_.call("POST", "/sessions", { email, password, ...(code ? { code } : {}) }, null);
const secretOf = (url: string) => kept(url.split("/").at(-1)!);
/** A code of a step that was not used yet. */
const codeOf = async (seed: string) => {
  await console_.services.db.withScope({ role: "system" }, (tx) =>
    change(tx, "update people set factor_step = null where factor_step is not null"),
  );
  return generate({ secret: seed, epoch: Math.floor(Date.now() / 1000) });
};
interface Invited {
  person: { id: string };
  invitation: { url: string };
}
/** One of the provider's people, with a password and, where wanted, a second factor. */
async function person(email: string, role: string, factor = false) {
  const { person: made, invitation } = await console_.ok<Invited>("POST", "/people", {
    name: email.split("@")[0]!,
    email,
    role,
  });
  const taken = await console_.call(
    "POST",
    `/invitations/${secretOf(invitation.url)}`,
    { password: LONG },
    null,
  );
  const session = cookieOf(taken.headers);
  if (!factor) return { id: made.id, session, seed: "" };
  const { body: begun } = await asked<{ seed: string }>("POST", "/account/factor", session, {
    password: LONG,
  });
  const { body: confirmed } = await asked<{ recoveryCodes: string[] }>(
    "POST",
    "/account/factor/confirm",
    session,
    {
      code: await codeOf(kept(begun.seed)),
    },
  );
  for (const code of confirmed.recoveryCodes) kept(code);
  return { id: made.id, session, seed: begun.seed };
}
const tokenOf = async (id: string, reach: "read" | "change", days = 1) => {
  const token = kept(randomSecret());
  const now = new Date();
  await console_.services.db.withScope({ role: "system" }, (tx) =>
    insertToken(tx, hashSecret(token), id, "test", now, new Date(now.getTime() + days * 86_400_000), reach),
  );
  return token;
};

beforeAll(async () => {
  console_ = await TestConsole.start();
  mine = await makeClient(console_, "Vossel & Daughters Bakery");
  theirs = await makeClient(console_, "Brackenfold Dental");
  machine = await enrolMachine(console_, mine, "voss-lt-01");
  console_.runAgent(machine.state);
  const port = await drop.listen(0);
  await console_.ok("PUT", "/mail-server", {
    host: "127.0.0.1",
    port,
    security: "none",
    username: null,
    password: kept("nine herrings in a jar"),
    sender: "keep@lanternfold.example",
  });
});
afterAll(async () => {
  await drop.close();
  await console_?.stop();
});

describe("links that grant power", () => {
  it("go out by mail, and nobody reads them again", async () => {
    const reader = await person("sela@lanternfold.example", "reader");
    const token = await tokenOf(reader.id, "read");
    const { invitation } = await console_.ok<Invited>("POST", "/people", {
      name: "New Owner",
      email: "owner2@lanternfold.example",
      role: "owner",
    });
    const secret = secretOf(invitation.url);
    for (const bearer of [token, console_.token]) {
      const { body } = await console_.call("GET", "/messages", undefined, bearer);
      const text = JSON.stringify(body);
      expect(text).toContain("owner2@lanternfold.example");
      expect(text).not.toContain(secret);
      expect(text).not.toMatch(/invitation\/[A-Za-z0-9_-]{20}/);
    }
    await until(
      async () => (await readDrop(drop.folder)).some((mail) => mail.text?.includes(secret)),
      "no mail came",
    );
    const [message] = await system<{ body: string; sealed: Buffer | null; sent: Date | null }>(
      "select body, sealed_link as sealed, sent_at as sent from messages where recipient = 'mail:owner2@lanternfold.example'",
    );
    expect(message!.body).not.toContain(secret);
    await until(
      async () =>
        (await system("select from messages where sealed_link is not null and sent_at is not null"))
          .length === 0 &&
        (
          await system(
            "select from messages where recipient = 'mail:owner2@lanternfold.example' and sent_at is not null",
          )
        ).length === 1,
      "the sealed link is kept",
    );
  });
});

describe("a repeated request", () => {
  it("gets its answer again for a day, without what is shown once", async () => {
    const key = { "idempotency-key": "token-1" };
    const body = { name: "Pipeline", reach: "read", days: 1 };
    const first = await console_.call<{ id: string; token: string }>(
      "POST",
      "/account/tokens",
      body,
      console_.token,
      key,
    );
    kept(first.body.token);
    const second = await console_.call<{ id: string; token: null }>(
      "POST",
      "/account/tokens",
      body,
      console_.token,
      key,
    );
    expect(second.status).toBe(201);
    expect(second.headers.get("idempotency-replayed")).toBe("true");
    expect(second.body).toMatchObject({ id: first.body.id, token: null });
    expect((await system("select from api_tokens where name = 'Pipeline'")).length).toBe(1);
  });

  const taken = (key: string, body: object, more: string, values: unknown[] = []) =>
    system(
      `insert into idempotency_keys (person_id, key, request_hash, created_at, committed)
       select id, $1, $2, ${more} from people where email = 'ines@lanternfold.example'`,
      [
        key,
        createHash("sha256")
          .update(JSON.stringify(["addSite", { params: { clientId: mine.id }, raw: body }]))
          .digest(),
        ...values,
      ],
    );
  const add = (key: string, name: string) =>
    console_.call<{ detail: string }>("POST", `/clients/${mine.id}/sites`, { name }, console_.token, {
      "idempotency-key": key,
    });
  const sites = async (name: string) => (await system("select from sites where name = $1", [name])).length;

  it("is done after the first one's process died without having changed anything, and not while it lives", async () => {
    await taken("dead", { name: "Dead end" }, "now() - interval '10 minutes', false");
    await taken("alive", { name: "Alive" }, "now(), false");
    expect((await add("dead", "Dead end")).status).toBe(201);
    expect((await add("alive", "Alive")).status).toBe(409);
    expect([await sites("Dead end"), await sites("Alive")]).toEqual([1, 0]);
  });
  it("is not done again when the first one was carried out and its answer was lost", async () => {
    await taken("done", { name: "Done" }, "now() - interval '10 minutes', true");
    const answer = await add("done", "Done");
    expect(answer).toMatchObject({
      status: 409,
      body: { detail: expect.stringContaining("was carried out") },
    });
    expect(await sites("Done")).toBe(0);
    // that it changed something is noted in the very transaction of the change
    expect((await add("noted", "Noted")).status).toBe(201);
    expect(await system("select committed from idempotency_keys where key = 'noted'")).toEqual([
      { committed: true },
    ]);
  });
});

describe("housekeeping", () => {
  it("deletes kept answers after a day, and counts and sessions that have expired", async () => {
    await system(
      `insert into idempotency_keys (person_id, key, request_hash, created_at)
       select id, v.key, ''::bytea, now() - v.age from people,
         (values ('yesterday', interval '25 hours'), ('today', interval '23 hours')) v(key, age) where email = 'ines@lanternfold.example'`,
    );
    const inMs = (ms: number) => String(Date.now() + ms);
    await system(
      "insert into rate_limits (key, points, expire) values ('over', 1, $1), ('counting', 1, $2)",
      [inMs(-1000), inMs(600_000)],
    );
    await system(
      `insert into sessions (id, person_id, created_at, seen_at, expires_at, address, public_id)
       select decode(md5(v.name), 'hex'), id, now(), now(), now() + until, v.name, gen_random_uuid() from people,
         (values ('ended', interval '-1 second'), ('lasting', interval '1 hour')) v(name, until) where email = 'ines@lanternfold.example'`,
    );
    await keepHouse(console_.services);
    expect(await system("select key from idempotency_keys where key in ('yesterday', 'today')")).toEqual([
      { key: "today" },
    ]);
    expect(await system("select key from rate_limits where key in ('over', 'counting')")).toEqual([
      { key: "counting" },
    ]);
    expect(await system("select address from sessions where address in ('ended', 'lasting')")).toEqual([
      { address: "lasting" },
    ]);
  });
});

describe("a reset of a password", () => {
  it("keeps the second factor, and ends sessions and tokens", async () => {
    const owner = await person("rosa@lanternfold.example", "owner", true);
    const token = await tokenOf(owner.id, "change");
    const { invitation } = await console_.ok<Invited>("POST", `/people/${owner.id}/invitation`);
    const address = `/invitations/${secretOf(invitation.url)}`;
    const take = (code?: string) =>
      console_.call("POST", address, { password: `${LONG} again`, ...(code ? { code } : {}) }, null);
    expect((await take()).body).toMatchObject({ code: "auth.factor-needed" });
    expect((await take("000000")).body).toMatchObject({ errors: [{ field: "code" }] });
    expect((await console_.call("GET", "/me", undefined, token)).status).toBe(200);
    expect((await take(await codeOf(owner.seed))).status).toBe(200);
    expect((await console_.call("GET", "/me", undefined, token)).status).toBe(401);
    expect((await asked("GET", "/me", owner.session)).status).toBe(401);
    expect((await signIn("rosa@lanternfold.example", `${LONG} again`)).body).toMatchObject({
      code: "auth.factor-needed",
    });
  });
  it("and one of the second factor take two different people", async () => {
    const second = await console_.addPerson({
      email: "quentin@lanternfold.example",
      name: "Quentin Ash",
      role: "owner",
      clientId: null,
    });
    for (const order of ["password first", "factor first"]) {
      const { id } = await person(`${order.split(" ")[0]}@lanternfold.example`, "technician", true);
      const password = (token: string) =>
        console_.call<Invited["invitation"]>("POST", `/people/${id}/invitation`, undefined, token);
      const factor = (token: string) => console_.call("DELETE", `/people/${id}/factor`, undefined, token);
      const [first, other] = order === "password first" ? [password, factor] : [factor, password];
      expect((await first(console_.token)).status, order).toBeLessThan(300);
      expect((await other(console_.token)).status, order).toBe(403);
      expect((await other(second)).status, order).toBeLessThan(300);
    }
  });
  it("is needed by nobody to remove a factor with the password alone", async () => {
    const { session, seed } = await person("tess@lanternfold.example", "technician", true);
    expect((await asked("DELETE", "/account/factor", session, { password: LONG })).status).toBe(422);
    expect(
      (await asked("DELETE", "/account/factor", session, { password: LONG, code: "123456" })).status,
    ).toBe(422);
    expect(
      (await asked("DELETE", "/account/factor", session, { password: LONG, code: await codeOf(seed) }))
        .status,
    ).toBe(200);
  });
});

describe("a token of the API", () => {
  it("makes none that lasts longer or may do more than itself, and goes with the password on request", async () => {
    const { id, session } = await person("tobias@lanternfold.example", "technician");
    const change_ = await tokenOf(id, "change", 2);
    const read = await tokenOf(id, "read", 2);
    const make = (bearer: string, days: number) =>
      console_.call<{ token: string }>(
        "POST",
        "/account/tokens",
        { name: "child", reach: "change", days },
        bearer,
      );
    expect((await make(read, 1)).status).toBe(403);
    expect((await make(change_, 30)).body).toMatchObject({ errors: [{ field: "days" }] });
    const child = await make(change_, 1);
    expect(child.status).toBe(201);
    kept(child.body.token);
    const changed = await asked("PUT", "/account/password", session, {
      password: LONG,
      newPassword: kept(`${LONG} and later`),
      endTokens: true,
    });
    expect(changed.body).toMatchObject({ tokensEnded: 3 });
    expect((await console_.call("GET", "/me", undefined, change_)).status).toBe(401);
  });
});

describe("attempts", () => {
  it("that come all at once are all counted before one is evaluated", async () => {
    await person("loud@lanternfold.example", "technician");
    const answers = await Promise.all(
      Array.from({ length: 60 }, (_, i) => signIn("loud@lanternfold.example", `wrong ${i}`)),
    );
    const evaluated = answers.filter((one) => one.status === 401).length;
    expect(evaluated).toBeLessThanOrEqual(10);
    expect((await signIn("loud@lanternfold.example", LONG)).status).toBe(429);
    // and with a code: every one of them counts, too
    await system("delete from rate_limits");
    const { seed } = await person("louder@lanternfold.example", "technician", true);
    const codes = await Promise.all(
      Array.from({ length: 60 }, (_, i) => signIn("louder@lanternfold.example", LONG, String(100_000 + i))),
    );
    expect(codes.filter((one) => one.status === 401).length).toBeLessThanOrEqual(10);
    expect((await signIn("louder@lanternfold.example", LONG, await codeOf(seed))).status).toBe(429);
    await system("delete from rate_limits");
  });
});

describe("a page of another site", () => {
  const post = (path: string, headers: Record<string, string>, body: string) =>
    fetch(`${console_.url}/api/v1${path}`, { method: "POST", headers, body });
  it("signs nobody in, whatever it calls its content", async () => {
    const body = JSON.stringify({ email: "ines@lanternfold.example", password: console_.password });
    for (const type of ["application/json", "text/plain", "application/x-www-form-urlencoded"]) {
      const answer = await post(
        "/sessions",
        { "content-type": type, origin: "https://elsewhere.example" },
        body,
      );
      expect([type, answer.status, answer.headers.get("set-cookie")]).toEqual([type, 403, null]);
    }
    expect((await post("/sessions", { "content-type": "text/plain" }, body)).status).toBe(415);
    expect(
      (await post("/sessions", { "content-type": "application/json", origin: "null" }, body)).status,
    ).toBe(403);
    expect(
      (await post("/sessions", { "content-type": "application/json; charset=utf-8" }, body)).status,
    ).toBe(200);
  });
});

describe("every route that takes a body", () => {
  const sample: Record<string, string> = { secret: "x".repeat(30) };
  const path = (template: string) =>
    template.replace(
      /\{(\w+)\}/g,
      (_, name: string) =>
        sample[name] ??
        (name === "pointId"
          ? "0".repeat(32)
          : name === "level"
            ? "client"
            : name === "revision"
              ? "1"
              : "00000000-0000-4000-8000-000000000000"),
    );
  const withBody = operations.filter((one) => one.body);
  const agent = ["enrol", "hello", "work"];

  /** Sends a body that never ends; says how it was answered and how much the far end took by then. */
  const pour = (address: string, headers: Record<string, string>, method = "POST") =>
    new Promise<{ status: number; sent: number }>((resolve, reject) => {
      let sent = 0;
      let done = false;
      const part = Buffer.alloc(64 * 1024, 0x20);
      const asking = request(
        `${console_.url}${address}`,
        { method, headers: { ...headers, "transfer-encoding": "chunked" } },
        (response) => {
          done = true;
          response.resume();
          resolve({ status: response.statusCode!, sent });
          asking.destroy();
        },
      );
      asking.on("error", (error) => !done && reject(error));
      const more = () => {
        while (!done && sent < 256 * 1024 * 1024) {
          sent += part.length;
          if (!asking.write(part)) return void asking.once("drain", more);
        }
        if (!done) asking.end();
      };
      more();
    });

  it.each(withBody.map((one) => [one.id, one] as const))(
    "%s stops reading what is too large",
    async (_id, operation) => {
      const anyone = operation.caller === "anyone";
      const headers = {
        "content-type": "application/json",
        ...(anyone ? {} : { authorization: `Bearer ${console_.token}` }),
      };
      const { status, sent } = await pour(`/api/v1${path(operation.path)}`, headers, operation.method);
      expect([403, 404, 413]).toContain(status);
      expect(sent).toBeLessThan(64 * 1024 * 1024);
    },
  );

  it.each(agent)("the agents' route %s stops reading, too", async (route) => {
    const { token } = JSON.parse(readFileSync(join(machine.state, "identity.json"), "utf8")) as {
      token: string;
    };
    const { status, sent } = await pour(`/agent/v1/${route}`, { authorization: `Bearer ${token}` });
    expect(status).toBe(413);
    expect(sent).toBeLessThan(32 * 1024 * 1024);
  });

  it("refuses what is nested too deep, in words", async () => {
    const deep = `${'{"a":'.repeat(100_000)}1${"}".repeat(100_000)}`;
    const lists = "[".repeat(500_000);
    for (const body of [deep, lists])
      for (const [url, token] of [
        ["/clients", console_.token],
        ["/sessions", null],
      ] as const) {
        const answer = await console_.call<{ detail: string }>("POST", url, body, token);
        expect([answer.status, answer.body.detail]).toEqual([
          422,
          "The request body nests deeper than 64 levels.",
        ]);
      }
  });

  it("does not wait for a body that does not come", async () => {
    const { hostname, port } = new URL(console_.url);
    const said = await new Promise<string>((resolve) => {
      const socket = connect(Number(port), hostname);
      let text = "";
      socket.on("data", (part) => {
        text += part;
        socket.destroy();
      });
      socket.on("close", () => resolve(text));
      socket.write(
        "POST /api/v1/sessions HTTP/1.1\r\nhost: x\r\ncontent-type: application/json\r\ncontent-length: 500\r\n\r\n{",
      );
    });
    expect(said).toMatch(/^HTTP\/1\.1 408 /);
  }, 30_000);
});

describe("methods and addresses", () => {
  const raw = (line: string) =>
    new Promise<string>((resolve) => {
      const { hostname, port } = new URL(console_.url);
      const socket = connect(Number(port), hostname, () =>
        socket.write(
          `${line} HTTP/1.1\r\nhost: x\r\nauthorization: Bearer ${console_.token}\r\nconnection: close\r\n\r\n`,
        ),
      );
      let text = "";
      socket.on("data", (part) => (text += part));
      socket.on("close", () => resolve(text));
    });
  const statusOf = async (line: string) => Number((await raw(line)).split(" ")[1]);

  it("are answered as HTTP has it", async () => {
    expect(await statusOf("TRACE /api/v1/me")).toBe(405);
    expect(await statusOf("GET /api/v1/%")).toBe(400);
    expect(await statusOf("GET /all/watch?x=%zz")).toBe(400);
    expect(await statusOf("GET /agent/v1/%ff")).toBe(400);
    const wrong = await raw("DELETE /api/v1/me");
    expect(wrong).toMatch(/^HTTP\/1\.1 405 /);
    expect(wrong).toMatch(/\r\nallow: GET, HEAD\r\n/i);
    const head = await raw("HEAD /api/v1/me");
    expect(head).toMatch(/^HTTP\/1\.1 200 /);
    expect(head.split("\r\n\r\n")[1]).toBe("");
    expect(await statusOf("GET /agent/v1/enrol")).toBe(405);
    expect(await statusOf("GET /api/v1/nothing-here")).toBe(404);
  });

  it("that name every operation by a wrong method are 405, and by HEAD as by GET", async () => {
    const paths = [...new Set(operations.map((one) => one.path))].filter((one) => !one.includes("{"));
    for (const path of paths) {
      const answered = (method: string) =>
        operations.some(
          (one) =>
            one.method === method && new RegExp(`^${one.path.replace(/\{\w+\}/g, "[^/]+")}$`).test(path),
        );
      for (const method of ["PUT", "PATCH", "DELETE"].filter((one) => !answered(one)))
        expect([path, method, (await console_.call(method, path)).status]).toEqual([path, method, 405]);
      if (!answered("GET")) expect([path, (await console_.call("HEAD", path)).status]).toEqual([path, 405]);
    }
  });
});

describe("periods", () => {
  const years = [
    "0000-01-01",
    "0001-12-31",
    "1969-12-31",
    "2201-01-01",
    "9999-12-31",
    "2026-02-30",
    "+12026-01-01",
  ];
  it("outside of 1970 to 2200, and days that are none, are refused at once", async () => {
    const routes = [`/clients/${mine.id}/statement`, "/usage", "/trail", "/trail/export"];
    for (const route of routes)
      for (const day of years)
        for (const query of [
          `from=${encodeURIComponent(day)}`,
          `to=${encodeURIComponent(day)}`,
          `from=1970-01-01&to=${encodeURIComponent(day)}`,
        ]) {
          const begun = performance.now();
          const { status } = await console_.call("GET", `${route}?${query}`);
          expect([route, query, status]).toEqual([route, query, 422]);
          expect(performance.now() - begun).toBeLessThan(5000);
        }
    expect(
      (await console_.call("GET", `/clients/${mine.id}/statement?from=2026-01-01&to=2026-12-31`)).status,
    ).toBe(200);
  });
});

describe("rights that change", () => {
  it("end what a technician hears of other clients, and what they see of them in a viewing", async () => {
    console_.startViewer();
    const bryn = await person("bryn@lanternfold.example", "technician");
    const control = new AbortController();
    const events = await fetch(`${console_.url}/api/v1/events`, {
      headers: withSession(bryn.session),
      signal: control.signal,
    });
    let heard = "";
    const listening = (async () => {
      for await (const part of events.body as unknown as AsyncIterable<Uint8Array>)
        heard += Buffer.from(part).toString();
    })().catch(() => {});
    const run = await backUp(console_, machine.sourceId);
    await until(async () => heard.includes("voss-lt-01"), "nothing is heard of a run");
    const { viewing, keys } = await console_.ok<{
      viewing: { id: string };
      keys: { userName: string; password: string }[];
    }>("POST", `/recovery-points/${run.figures.point}/viewings`, { people: [bryn.id], hours: 1 });
    const basic = `Basic ${Buffer.from(`${keys[0]!.userName}:${kept(keys[0]!.password)}`).toString("base64")}`;
    const look = () =>
      fetch(`${console_.url}/viewings/${viewing.id}/`, { headers: { authorization: basic } });
    await until(async () => (await look()).status === 200, "the viewing does not open");
    await console_.ok("PATCH", `/people/${bryn.id}`, { clientIds: [theirs.id] });
    heard = "";
    await backUp(console_, machine.sourceId);
    await new Promise((resolve) => setTimeout(resolve, 1500));
    expect(heard).not.toContain("voss-lt-01");
    expect(heard).not.toContain("event:");
    expect((await look()).status).toBe(401);
    control.abort();
    await listening;
  });

  it("open no stream for whoever lacks a second factor that their role must have", async () => {
    const nell = await person("nell@lanternfold.example", "technician");
    await system("update provider set factor_roles = '{technician}'");
    const answer = await fetch(`${console_.url}/api/v1/events`, { headers: withSession(nell.session) });
    expect(answer.status).toBe(403);
    await answer.body?.cancel();
    await system("update provider set factor_roles = '{}'");
  });
});

describe("names", () => {
  it("have no line breaks in them, where they become part of a protocol", async () => {
    const host = await console_.call("PUT", "/mail-server", {
      host: "mail.example\r\nRCPT TO:<x@x.example>",
      port: 25,
      security: "none",
      sender: "x@x.example",
    });
    expect(host.body).toMatchObject({ errors: [{ field: "host" }] });
    const client = await console_.call("POST", `/clients/${mine.id}/sites`, {
      name: "Quay\r\nBcc: x@x.example",
    });
    expect(client.body).toMatchObject({ errors: [{ field: "name" }] });
  });
});

// last: what all of the above was shown
describe("secrets at rest", () => {
  it("lie nowhere in clear: not in the database, not in the data folder", async () => {
    // more of what is shown once, each with an Idempotency-Key
    const once = async <T>(path: string, body: object): Promise<T> =>
      (await console_.call<T>("POST", path, body, console_.token, { "idempotency-key": `once ${path}` }))
        .body;
    const webhook = await once<{ secret: string }>("/webhooks", {
      name: "Tickets",
      url: "https://tickets.example/hook",
    });
    kept(webhook.secret);
    kept((await once<{ code: string }>(`/clients/${mine.id}/enrolment-codes`, { siteId: mine.siteId })).code);
    kept((await once<{ url: string }>(`/clients/${mine.id}/statement/links`, {})).url.split("/").at(-1)!);
    const fresh = await console_.ok<{ client: { id: string } }>("POST", "/clients", {
      name: "Saltrow Ferries",
      zone: "UTC",
      region: "north harbour",
      contactName: "Ada",
      contactEmail: "ada@saltrow.example",
      sites: ["Quay"],
    });
    const key = await once<{ groups: string[] }>(`/clients/${fresh.client.id}/key`, {});
    kept(key.groups.join("-"));
    kept(key.groups.join(""));
    kept(console_.token);
    const tables = await system<{ name: string }>(
      `select quote_ident(n.nspname) || '.' || quote_ident(c.relname) as name from pg_class c join pg_namespace n on n.oid = c.relnamespace
       where c.relkind = 'r' and n.nspname in ('public')`,
    );
    const wanted = [...secrets].filter((one) => one && one.length >= 8);
    expect(wanted.length).toBeGreaterThan(40);
    const found: string[] = [];
    for (const { name } of tables) {
      const rows = await system<{ text: string }>(`select t::text as text from ${name} t`);
      for (const { text } of rows) {
        const bytes = [...text.matchAll(/\\x([0-9a-f]{16,})/g)].map(([, hex]) =>
          Buffer.from(hex!, "hex").toString("latin1"),
        );
        for (const secret of wanted)
          if ([text, ...bytes].some((one) => one.includes(secret))) found.push(`${name}: ${secret}`);
      }
    }
    // the server's own files too: what a row was before it was changed
    const files = readdirSync(console_.home, { recursive: true }) as string[];
    for (const file of files) {
      const full = join(console_.home, file);
      if (
        !statSync(full).isFile() ||
        /master-key/.test(file) ||
        /^(pg_|postgres|database)/.test(file.split("/")[0]!)
      )
        continue;
      const text = readFileSync(full).toString("latin1");
      for (const secret of wanted) if (text.includes(secret)) found.push(`${file}: ${secret}`);
    }
    expect(found).toEqual([]);
  });
});
