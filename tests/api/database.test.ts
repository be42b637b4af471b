import { execFileSync } from "node:child_process";
import { writeFileSync } from "node:fs";
import { join } from "node:path";
import { afterAll, beforeAll, describe, expect, it } from "vitest";
import { backUp, makeClient, restore, setClauses, type TestClient } from "../client";
import { ClientDatabases } from "../database-server";
import { freshFolder } from "../depot";
import { TestConsole } from "../test-console";

/** Databases of a client through the console, against a real PostgreSQL server. */
let console_: TestConsole;
let client: TestClient;
let server: ClientDatabases;
let connectionId: string;
let sourceId: string;
let pointId: string;

const connect = (change: object = {}) =>
  console_.call<{
    errors: { field: string; message: string }[];
    connection: { id: string; settings: object };
    sources: number;
    steps: { step: string }[];
  }>("POST", `/clients/${client.id}/connections`, {
    kind: "database",
    siteId: client.siteId,
    name: "Bakery databases",
    address: server.address(),
    user: "keeper",
    password: "sesame",
    tls: "off",
    region: "north harbour",
    ...change,
  });
const sources = async () =>
  (
    await console_.ok<{
      sources: { id: string; kind: string; name: string; policyId: string | null; rules: object | null }[];
    }>("GET", `/sources?client=${client.id}`)
  ).sources;

beforeAll(async () => {
  console_ = await TestConsole.start();
  client = await makeClient(console_, "Vossel & Daughters Bakery");
  server = await ClientDatabases.start();
  await server.in("postgres", async (session) => {
    await session.query("create role keeper login superuser password 'sesame'");
    await session.query("create database orders");
  });
  await server.in("orders", async (session) => {
    await session.query("create table loaves (id int primary key, name text)");
    await session.query("insert into loaves select n, 'loaf ' || n from generate_series(1, 500) n");
  });
});
afterAll(async () => {
  await console_?.stop();
  await server?.stop();
});

describe("a database server", () => {
  it.each([
    ["a port where nothing listens", { address: "postgresql://127.0.0.1:2" }, "address"],
    ["an address of another protocol", { address: "https://db.example" }, "address"],
    ["an address with a password in it", { address: "postgresql://a:b@127.0.0.1" }, "address"],
    ["a wrong password", { password: "wrong" }, "password"],
    ["encryption that the server does not offer", { tls: "verify" }, "tls"],
    ["a database that is not there", { maintenance: "nothing" }, "user"],
    ["certificates that are none", { tls: "verify", authority: "abc" }, "authority"],
    [
      "certificates that nobody verifies",
      { authority: "-----BEGIN CERTIFICATE-----\nx\n-----END CERTIFICATE-----" },
      "authority",
    ],
  ])("is refused with %s, at its field", async (_what, change, field) => {
    const answer = await connect(change);
    expect([answer.status, answer.body.errors?.[0]?.field]).toEqual([422, field]);
  });

  it("makes a source of each database, and never shows the password", async () => {
    const answer = await connect();
    expect(answer.body).toMatchObject({ sources: 2 });
    expect(JSON.stringify(answer.body)).not.toContain("sesame");
    connectionId = answer.body.connection.id;
    const found = (await sources()).filter((one) => one.kind === "database");
    expect(found.map(({ name }) => name).sort()).toEqual(["orders on 127.0.0.1", "postgres on 127.0.0.1"]);
    sourceId = found.find(({ name }) => name.startsWith("orders"))!.id;
    expect((await connect({ name: "Again" })).body.errors[0]).toMatchObject({ field: "address" });
  });
});

describe("a database", () => {
  it("is not protected by a policy for other kinds; with one that names it, it is", async () => {
    await console_.ok("PATCH", `/sources/${sourceId}`, { policyId: client.policyId });
    expect((await sources()).find(({ id }) => id === sourceId)!.rules).toBeNull();
    await setClauses(console_, client, { what: { files: { folders: ["/data"] }, database: {} } });
    const run = await backUp(console_, sourceId);
    expect(run).toMatchObject({ outcome: "clean", figures: { files: 4 } });
    pointId = run.figures.point!;
  });

  it("is shown with its tables, and a table with its definition and first rows, which the trail records", async () => {
    const { database } = await console_.ok<{ database: { database: string; tables: object[] } }>(
      "GET",
      `/recovery-points/${pointId}/database`,
    );
    expect(database).toMatchObject({
      database: "orders",
      tables: [{ schema: "public", name: "loaves", rows: 500, estimated: false }],
    });
    const { table } = await console_.ok<{
      table: { columns: string[]; rows: string[][]; more: boolean; definition: string };
    }>("GET", `/recovery-points/${pointId}/database/table?schema=public&name=loaves`);
    expect([table.columns, table.rows[0], table.rows.length, table.more]).toEqual([
      ["id", "name"],
      ["1", "loaf 1"],
      50,
      true,
    ]);
    expect(table.definition).toContain("CREATE TABLE public.loaves");
    const { rows } = await console_.ok<{ rows: { action: string; details: object }[] }>("GET", "/trail");
    expect(rows.find(({ action }) => action === "viewed rows of a table")!.details).toMatchObject({
      table: "public.loaves",
    });
    expect(
      (await console_.call("GET", `/recovery-points/${pointId}/database/table?schema=public&name=x`)).status,
    ).toBe(404);
    expect((await console_.call("GET", `/recovery-points/${pointId}/mail-folders`)).status).toBe(409);
  });

  it("is restored as a new database, then in place of the original, which is kept", async () => {
    const items = [{ pointId, path: "/database.dump" }];
    const nameless = await console_.call<{ errors: { field: string }[] }>("POST", "/restores", {
      items,
      destination: { kind: "source", sourceId },
    });
    expect([nameless.status, nameless.body.errors[0]!.field]).toEqual([422, "destination.folder"]);
    const beside = await restore(console_, {
      items,
      destination: { kind: "source", sourceId, folder: "orders_restored" },
    });
    expect(beside).toMatchObject({ outcome: "clean", figures: { files: 1 } });
    expect(await server.query("orders_restored", "select * from loaves")).toHaveLength(500);
    await server.query("orders", "delete from loaves");
    const over = await restore(console_, { items, destination: { kind: "original" } });
    expect(over).toMatchObject({ outcome: "clean" });
    expect(await server.query("orders", "select * from loaves")).toHaveLength(500);
    const again = await restore(console_, {
      items,
      destination: { kind: "source", sourceId, folder: "orders_restored" },
    });
    expect(again).toMatchObject({ outcome: "failed", code: "restore.exists" });
  });

  it("is downloaded as a file that pg_restore reads", async () => {
    const { url } = await console_.ok<{ url: string }>("POST", "/restores/archives", {
      items: [{ pointId, path: "/database.dump" }],
      format: "zip",
    });
    const answer = await fetch(`${console_.url}${url}`, {
      headers: { authorization: `Bearer ${console_.token}` },
    });
    const folder = freshFolder("dump");
    writeFileSync(join(folder, "a.zip"), Buffer.from(await answer.arrayBuffer()));
    execFileSync("unzip", ["-q", "a.zip"], { cwd: folder });
    const listed = execFileSync("pg_restore", ["--list", join(folder, "database.dump")]).toString();
    expect(listed).toContain("TABLE DATA public loaves");
  });

  it("cannot be shared with a client's person", async () => {
    await console_.addPerson({
      email: "till@vossel.example",
      name: "Emmet Till",
      role: "person",
      clientId: client.id,
    });
    const { people } = await console_.ok<{ people: { id: string; email: string }[] }>(
      "GET",
      `/clients/${client.id}/people`,
    );
    const answer = await console_.call<{ errors: { field: string }[] }>(
      "POST",
      `/clients/${client.id}/gifts`,
      {
        personId: people.find(({ email }) => email.startsWith("till"))!.id,
        sourceId,
        path: "/",
      },
    );
    expect([answer.status, answer.body.errors[0]!.field]).toEqual([422, "sourceId"]);
  });

  it("is a kind that a client's contract counts", async () => {
    const contract = { files: 1, mail: 2, database: 3 };
    await console_.ok("PUT", `/clients/${client.id}/contract`, contract);
    expect(await console_.ok("GET", `/clients/${client.id}/contract`)).toEqual({ contract });
  });

  it("comes back in a drill as it was stored", async () => {
    const { run } = await console_.ok<{ run: { id: string } }>("POST", `/sources/${sourceId}/drills`);
    expect(await console_.runEnds(run.id)).toMatchObject({ outcome: "clean" });
  });

  it("whose password changed fails with one cause, and is mended by the new one", async () => {
    await server.query("postgres", "alter role keeper password 'other'");
    const failed = await backUp(console_, sourceId);
    expect(failed).toMatchObject({ outcome: "failed", code: "source.signin-refused" });
    const wrong = await console_.call<{ errors: { field: string }[] }>(
      "PUT",
      `/connections/${connectionId}/secret`,
      { clientSecret: "wrong" },
    );
    expect(wrong.status).toBe(422);
    await console_.ok("PUT", `/connections/${connectionId}/secret`, { clientSecret: "other" });
    expect(await backUp(console_, sourceId)).toMatchObject({ outcome: "clean" });
  });

  it("that was dropped is marked, and its points remain", async () => {
    await server.query("postgres", "drop database orders with (force)");
    await console_.ok("POST", `/connections/${connectionId}/discoveries`);
    const { sources: listed } = await console_.ok<{
      sources: { id: string; gone: boolean; points: number }[];
    }>("GET", `/sources?client=${client.id}`);
    expect(listed.find(({ id }) => id === sourceId)).toMatchObject({ gone: true, points: 2 });
  });
});
