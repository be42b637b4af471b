import { randomBytes } from "node:crypto";
import { writeFileSync } from "node:fs";
import { request as ask, createServer, type Server } from "node:http";
import type { AddressInfo } from "node:net";
import { join } from "node:path";
import { afterAll, beforeAll, describe, expect, it } from "vitest";
import { backUp, enrolMachine, makeClient, type TestClient, type TestMachine } from "../client";
import { TestConsole, until } from "../test-console";

/** Two web processes of one console, behind a proxy that leads each request to the next of them. */
let console_: TestConsole;
let client: TestClient;
let machine: TestMachine;
let second: { readonly url: string; end(): Promise<void> };
let proxy: Server;
let url: string;
const PASSPHRASE = "eleven boats on a grey harbour";

beforeAll(async () => {
  console_ = await TestConsole.start();
  second = await console_.startSecondWeb();
  client = await makeClient(console_, "Thornquay Shipping Agents");
  machine = await enrolMachine(console_, client, "thor-ws-01");
  console_.runAgent(machine.state);
  writeFileSync(join(machine.root, "data/manifest"), randomBytes(300_000));
  await backUp(console_, machine.sourceId);
  const webs = [console_.url, second.url];
  let turn = 0;
  proxy = createServer((request, response) => {
    const to = new URL(request.url!, webs[turn++ % webs.length]);
    const on = ask(to, { method: request.method, headers: request.headers }, (answer) => {
      response.writeHead(answer.statusCode!, answer.headers);
      answer.pipe(response);
    });
    on.on("error", () => response.destroy());
    request.pipe(on);
  });
  await new Promise<void>((resolve) => proxy.listen(0, "127.0.0.1", resolve));
  url = `http://127.0.0.1:${(proxy.address() as AddressInfo).port}`;
});
afterAll(async () => {
  proxy?.closeAllConnections();
  proxy?.close();
  await second?.end();
  await console_?.stop();
});

async function call<T = Record<string, unknown>>(
  method: string,
  path: string,
  body?: unknown,
  headers: Record<string, string> = { authorization: `Bearer ${console_.token}` },
  at = url,
): Promise<{ status: number; body: T; headers: Headers }> {
  const response = await fetch(`${at}/api/v1${path}`, {
    method,
    headers: { ...headers, ...(body === undefined ? {} : { "content-type": "application/json" }) },
    ...(body === undefined ? {} : { body: JSON.stringify(body) }),
  });
  const text = await response.text();
  return {
    status: response.status,
    body: (response.headers.get("content-type")?.includes("json") && text ? JSON.parse(text) : text) as T,
    headers: response.headers,
  };
}
const times = <T>(count: number, work: (i: number) => Promise<T>): Promise<T[]> =>
  Array.from({ length: count }).reduce<Promise<T[]>>(
    async (before, _, i) => [...(await before), await work(i)],
    Promise.resolve([]),
  );

describe("two webs", () => {
  it("know one another's sessions, from signing in to signing out", async () => {
    const signedIn = await call(
      "POST",
      "/sessions",
      {
        email: "ines@lanternfold.example",
        password: console_.password,
      },
      {},
    );
    const cookie = { cookie: signedIn.headers.get("set-cookie")!.split(";")[0]! };
    expect(await times(6, async () => (await call("GET", "/me", undefined, cookie)).status)).toEqual(
      Array(6).fill(200),
    );
    expect((await call("DELETE", "/sessions/current", undefined, cookie)).status).toBeLessThan(300);
    expect(await times(6, async () => (await call("GET", "/me", undefined, cookie)).status)).toEqual(
      Array(6).fill(401),
    );
  });

  it("count attempts together", async () => {
    await console_.addPerson({
      email: "tobin@lanternfold.example",
      name: "Tobin Asher",
      role: "technician",
      clientId: null,
    });
    const statuses = await times(
      24,
      async (i) =>
        (await call("POST", "/sessions", { email: "tobin@lanternfold.example", password: `wrong ${i}` }, {}))
          .status,
    );
    expect(statuses.filter((status) => status === 401)).toHaveLength(10);
    expect(new Set(statuses.slice(10))).toEqual(new Set([429]));
  });

  it("prepare a download in one and give it from the other, and make what is asked for twice once", async () => {
    const { points } = (
      await call<{ points: { id: string }[] }>("GET", `/sources/${machine.sourceId}/recovery-points`)
    ).body;
    const items = [{ pointId: points[0]!.id, path: "/data" }];
    const { id } = (await call<{ id: string }>("POST", "/restores/archives", { items, format: "tar" })).body;
    for (const { status } of await times(4, () => call("GET", `/restores/archives/${id}`)))
      expect(status).toBe(200);
    const key = { authorization: `Bearer ${console_.token}`, "idempotency-key": "twice" };
    const hook = { name: "Chat", url: "https://chat.lanternfold.example/" };
    const made = await times(2, () => call<{ webhook: { id: string } }>("POST", "/webhooks", hook, key));
    expect(made.map(({ status }) => status)).toEqual([201, 201]);
    expect(made[0]!.body.webhook.id).toBe(made[1]!.body.webhook.id);
  });

  it("tell of changes that the other made", async () => {
    for (const [watched, changed] of [
      [console_.url, second.url],
      [second.url, console_.url],
    ] as const) {
      const signedIn = await call(
        "POST",
        "/sessions",
        {
          email: "ines@lanternfold.example",
          password: console_.password,
        },
        {},
        watched,
      );
      const cookie = signedIn.headers.get("set-cookie")!.split(";")[0]!;
      const ending = new AbortController();
      const stream = await fetch(`${watched}/api/v1/events`, { headers: { cookie }, signal: ending.signal });
      let told = "";
      const reading = (async () => {
        for await (const part of stream.body!) told += Buffer.from(part).toString();
      })().catch(() => {});
      await until(async () => told.length > 0, "the events do not begin");
      const before = told.length;
      await call("PATCH", `/sources/${machine.sourceId}`, { paused: true }, undefined, changed);
      await call("PATCH", `/sources/${machine.sourceId}`, { paused: false }, undefined, changed);
      await until(async () => told.slice(before).includes("event: changed"), "the change is not told");
      ending.abort();
      await reading;
    }
  });

  it("open a key for the session that gave the passphrase to one of them, and shut it with the session", async () => {
    expect(
      (
        await call("PUT", `/clients/${client.id}/key/holding`, {
          passphrase: null,
          newPassphrase: PASSPHRASE,
        })
      ).status,
    ).toBe(200);
    const { points } = (
      await call<{ points: { id: string }[] }>("GET", `/sources/${machine.sourceId}/recovery-points`)
    ).body;
    const signedIn = await call(
      "POST",
      "/sessions",
      { email: "ines@lanternfold.example", password: console_.password },
      {},
    );
    const cookie = { cookie: signedIn.headers.get("set-cookie")!.split(";")[0]! };
    const browse = (headers?: Record<string, string>) =>
      times(
        4,
        async () =>
          (await call("GET", `/recovery-points/${points[0]!.id}/entries?path=/data`, undefined, headers))
            .status,
      );
    expect(await browse(cookie)).toEqual(Array(4).fill(423));
    const unlocked = await call(
      "POST",
      `/clients/${client.id}/key/unlock`,
      { passphrase: PASSPHRASE },
      cookie,
    );
    expect(unlocked.status).toBe(200);
    expect(await browse(cookie)).toEqual(Array(4).fill(200));
    expect(await browse()).toEqual(Array(4).fill(423));
    const pages = await times(4, async () =>
      (await fetch(`${url}/c/${client.slug}/restore`, { headers: cookie })).text(),
    );
    for (const page of pages) expect(page).not.toContain("Enter the passphrase");
    await call("DELETE", "/sessions/current", undefined, cookie);
    expect(await browse(cookie)).toEqual(Array(4).fill(401));
    const left = await console_.services.db.withScope({ role: "system" }, (tx) =>
      tx.query("select from lent_keys"),
    );
    expect(left.rowCount).toBe(0);
    // a token that opened it is taken away, by whatever way
    const token = await console_.addPerson({
      email: "quentin@lanternfold.example",
      name: "Quentin Ash",
      role: "technician",
      clientId: null,
    });
    const bearer = { authorization: `Bearer ${token}` };
    await call("POST", `/clients/${client.id}/key/unlock`, { passphrase: PASSPHRASE }, bearer);
    expect(await browse(bearer)).toEqual(Array(4).fill(200));
    const { people } = (await call<{ people: { id: string; name: string }[] }>("GET", "/people")).body;
    await call("DELETE", `/people/${people.find(({ name }) => name === "Quentin Ash")!.id}`);
    expect(await browse(bearer)).toEqual(Array(4).fill(401));
    const none = await console_.services.db.withScope({ role: "system" }, (tx) =>
      tx.query("select from lent_keys"),
    );
    expect(none.rowCount).toBe(0);
  });

  it("answer as much together as one alone would", async () => {
    // both have said that they are there
    await until(
      async () =>
        (
          await console_.services.db.withScope({ role: "system" }, (tx) =>
            tx.query("select from runners where web"),
          )
        ).rowCount === 2,
      "the webs do not say that they are there",
    );
    await new Promise((next) => setTimeout(next, 21_000));
    const token = await console_.addPerson({
      email: "louder@lanternfold.example",
      name: "Louder",
      role: "reader",
      clientId: null,
    });
    const headers = { authorization: `Bearer ${token}` };
    let answered = 0;
    await Promise.all(
      Array.from({ length: 20 }, async () => {
        for (let i = 0; i < 85; i += 1)
          if ((await call("GET", "/me", undefined, headers)).status === 200) answered += 1;
      }),
    );
    expect(answered).toBeLessThanOrEqual(1500);
    expect(answered).toBeGreaterThan(1300);
  }, 120_000);
});
