import { readdirSync } from "node:fs";
import { tmpdir } from "node:os";
import { afterAll, beforeAll, describe, expect, it } from "vitest";
import type { Code } from "@/core/codes";
import { fileBytes, findEntry } from "@/store/read/browse";
import { ClientDatabases } from "../../../tests/database-server";
import { snap, TestDepot } from "../../../tests/depot";
import type { OpenConnection } from "../connection-base";
import { databaseCatalog, databaseTable } from "./browse";
import { DATABASE_ACCESS } from "./connect";
import { copyValue, rowsOf } from "./first-rows";
import { programsFor } from "./programs";
import type { DatabaseSettings } from "./settings";
import { databaseWhat } from "./what";

const UNKNOWN = { sourceId: "00000000-0000-4000-8000-000000000000", previous: null };

/** Databases against a real server, which nobody here wrote. */
let server: ClientDatabases;
const depot = new TestDepot();
const connection = (
  change: Partial<DatabaseSettings> = {},
  secret?: string,
): OpenConnection<DatabaseSettings> => ({
  address: server.address(),
  settings: { user: server.user, maintenance: "postgres", tls: "off", region: "north harbour", ...change },
  secret: secret ?? server.password,
});
/** A name that is none of SQL's, the shell's or libpq's. */
const ODD = `odd 'name" host=evil; --x`;

beforeAll(async () => {
  server = await ClientDatabases.start();
  await server.in("postgres", async (session) => {
    await session.query("create role baker login password 'flour'");
    await session.query("create database orders owner baker");
    await session.query(`create database "${ODD.replaceAll('"', '""')}"`);
  });
  await server.in("orders", async (session) => {
    await session.query("create schema audit");
    await session.query("create table customers (id int primary key, name text not null, note text)");
    await session.query("create index customers_name on customers (name)");
    await session.query(
      "insert into customers values (1, 'Ada', null), (2, E'Till\\tTab', E'line\\nend \\\\N'), (3, 'Möbel', '')",
    );
    await session.query('create table audit."odd ""table" (at timestamptz, "a b" jsonb)');
    await session.query(`insert into audit."odd ""table" values ('2026-11-30T08:00:00Z', '{"k": [1, 2]}')`);
    await session.query("create table big (id int primary key, filler text)");
    await session.query(
      "insert into big select n, md5(n::text) || repeat('x', 200) from generate_series(1, 40000) n",
    );
    await session.query("alter table customers owner to baker");
    await session.query("create view names as select name from customers");
  });
}, 60_000);
afterAll(() => server?.stop());

async function store(
  database = "orders",
  previous: Awaited<ReturnType<typeof snap>> | null = null,
  what: object = {},
  over = connection(),
) {
  const { reader } = await DATABASE_ACCESS.open(over, database, databaseWhat.parse(what), UNKNOWN);
  try {
    return await snap(depot, "", { reader, previous: previous?.previous ?? null });
  } finally {
    reader.end?.();
  }
}
async function restore(
  root: Uint8Array,
  folder: string | null,
  id = "orders",
  over = connection(),
  path = "/",
  table: { schema: string; name: string } | null = null,
) {
  const lines: { code: Code | null; message: string }[] = [];
  const work = {
    items: [{ store: depot.reader(), root, path, momentLabel: "" }],
    folder,
    table,
    expect: () => {},
    log: (_level: string, code: Code | null, _at: string | null, message: string) =>
      void lines.push({ code, message }),
    progress: { items: 0, bytes: 0 },
    signal: new AbortController().signal,
  };
  return { ...(await DATABASE_ACCESS.restore(over, id, work)), lines };
}
async function file(root: Uint8Array, name: string): Promise<string> {
  const reader = depot.reader();
  const entry = (await findEntry(reader, root, `/${name}`))!;
  const parts: Buffer[] = [];
  for await (const part of fileBytes(reader, entry, 0, entry.size ?? 0)) parts.push(part);
  return Buffer.concat(parts).toString("utf8");
}
const sessions = async (): Promise<number> =>
  (
    await server.query<{ n: number }>(
      "postgres",
      "select count(*)::int as n from pg_stat_activity where application_name like 'deep-keep%'",
    )
  )[0]!.n;
const leftFolders = () => readdirSync(tmpdir()).filter((name) => name.startsWith("deep-keep-database-"));

describe("a database server", () => {
  it("is tested step by step, and lists what its user may open", async () => {
    const test = await DATABASE_ACCESS.test(connection());
    expect(test.steps.map(({ step, ok }) => [step, ok])).toEqual([
      ["Find the server", true],
      ["Sign in", true],
      ["Find the dump program", true],
      ["List the databases", true],
    ]);
    expect(test.found.map(({ id }) => id)).toEqual(expect.arrayContaining(["orders", "postgres", ODD]));
    // what a restore makes for a while is no source
    await server.query("postgres", 'create database "orders restored 0123abcd"');
    const during = await DATABASE_ACCESS.test(connection());
    expect(during.found).toEqual(test.found);
    await server.query("postgres", 'drop database "orders restored 0123abcd"');
    expect(test.found.find(({ id }) => id === "orders")!.name).toBe("orders on 127.0.0.1");
  });

  it("names the step that fails, with its reason", async () => {
    const failing = async (over: OpenConnection<DatabaseSettings>) => {
      const { steps, code } = await DATABASE_ACCESS.test(over);
      return [steps.at(-1)!.step, code];
    };
    expect(await failing({ ...connection(), address: "postgresql://127.0.0.1:2" })).toEqual([
      "Find the server",
      "source.not-reached",
    ]);
    expect(await failing(connection({}, "wrong"))).toEqual(["Sign in", "source.signin-refused"]);
    expect(await failing(connection({ maintenance: "nothing" }))).toEqual(["Sign in", "source.not-allowed"]);
    // this server offers no TLS
    expect(await failing(connection({ tls: "verify" }))).toEqual(["Sign in", "source.tls"]);
    await expect(programsFor(99, [{ folder: "/x", version: 15 }])).rejects.toMatchObject({
      code: "source.program-missing",
      message: expect.stringContaining("postgresql-client-99"),
    });
    expect(
      await programsFor(14, [
        { folder: "/a", version: 13 },
        { folder: "/b", version: 14 },
        { folder: "/c", version: 16 },
      ]),
    ).toMatchObject({ folder: "/b" });
  });
});

describe("a database", () => {
  it("is stored with roles, definitions and a catalog, and stores little when little changed", async () => {
    const first = await store();
    expect(first.notes).toEqual([]);
    expect(first.counts.files).toBe(4);
    expect(await file(first.root, "schema.sql")).toContain("CREATE TABLE public.customers");
    expect(await file(first.root, "globals.sql")).toContain("CREATE ROLE baker");
    const catalog = (await databaseCatalog(depot.reader(), first.root))!;
    expect(catalog.tables.map(({ schema, name, rows }) => [schema, name, rows])).toEqual([
      ["audit", 'odd "table', 1],
      ["public", "big", 40_000],
      ["public", "customers", 3],
    ]);
    const second = await store("orders", first);
    expect(second.counts.bytes).toBeGreaterThan(9_000_000);
    // the dump has its own time in its head
    expect(second.stored.newBytes).toBeLessThan(second.counts.bytes / 3);
  });

  it("is restored under another name, the same in every row; a second time it is refused", async () => {
    const before = await server.content("orders");
    const { root } = await store();
    const back = await restore(root, "orders_back");
    expect(back).toMatchObject({ files: 1, cautions: 0 });
    expect(await server.content("orders_back")).toEqual(before);
    expect(
      await server.query(
        "orders_back",
        "select indexname from pg_indexes where indexname = 'customers_name'",
      ),
    ).toHaveLength(1);
    await expect(restore(root, "orders_back")).rejects.toMatchObject({ code: "restore.exists" });
    await expect(restore(root, "x".repeat(64))).rejects.toMatchObject({ code: "restore.cannot-write" });
  });

  it("keeps who may connect, its owner and its settings: in place as they are now, beside as they were", async () => {
    await server.query("postgres", "create role guest login password 'x'");
    await server.query("postgres", "create database closed owner baker");
    await server.query("postgres", "revoke connect, temporary on database closed from public");
    await server.query("postgres", "alter database closed set search_path to audit, public");
    await server.query("postgres", "alter database closed set work_mem to '8MB'");
    const access = async (database: string) =>
      (
        await server.query<{ line: string }>(
          "postgres",
          `select pg_get_userbyid(datdba) || ' ' || has_database_privilege('guest', oid, 'connect') || ' '
             || has_database_privilege('baker', oid, 'connect') || ' '
             || coalesce((select setconfig::text from pg_db_role_setting where setdatabase = oid and setrole = 0), '') as line
           from pg_database where datname = $1`,
          [database],
        )
      )[0]!.line;
    const closed = await access("closed");
    expect(closed).toMatch(/^baker false true .*search_path=audit, public.*work_mem=8MB/);
    const { root } = await store("closed");
    await restore(root, "closed_beside", "closed");
    expect(await access("closed_beside")).toBe(closed);
    await server.query("postgres", "grant connect on database closed to guest");
    await restore(root, null, "closed");
    expect(await access("closed")).toBe(closed.replace("baker false", "baker true"));
  });

  it("takes the place of the original also where that is the database the connection signs in to", async () => {
    await server.query("postgres", "create role alone login createdb password 'x'");
    await server.query("postgres", "create database alone owner alone");
    const own = connection({ user: "alone", maintenance: "alone" }, "x");
    await server.query("alone", "create table t as select 7 as v; alter table t owner to alone");
    const { root } = await store("alone", null, {}, own);
    await server.query("alone", "update t set v = 0");
    await restore(root, null, "alone", own);
    expect(await server.query("alone", "select v from t")).toEqual([{ v: 7 }]);
    await restore(root, null, "alone", own);
    expect(await server.query("alone", "select v from t")).toEqual([{ v: 7 }]);
  });

  it("takes the place of the original, which is kept under another name; not while somebody uses it", async () => {
    const { root } = await store();
    const before = await server.content("orders");
    await server.query("orders", "delete from customers");
    await server.in("orders", async () => {
      await expect(restore(root, null)).rejects.toMatchObject({ code: "restore.in-use" });
    });
    const back = await restore(root, null);
    expect(back.lines.map(({ message }) => message).join()).toMatch(/is now “orders until 20/);
    expect(await server.content("orders")).toEqual(before);
    const names = (
      await server.query<{ datname: string }>("postgres", "select datname from pg_database")
    ).map(({ datname }) => datname);
    const aside = names.find((name) => name.startsWith("orders until"))!;
    expect((await server.query("postgres", "select 1 as one")).length).toBe(1);
    expect(await server.query(aside, "select * from customers")).toEqual([]);
    expect(names.some((name) => name.includes("restored"))).toBe(false);
  });

  it("with the longest name there is takes its place as well, and both names are whole", async () => {
    const long = "ö".repeat(31);
    await server.query("postgres", `create database "${long}"`);
    await server.query(long, "create table t (v int)");
    const { root } = await store(long);
    await restore(root, null, long);
    const names = (
      await server.query<{ datname: string }>("postgres", "select datname from pg_database")
    ).map(({ datname }) => datname);
    expect(names).toContain(long);
    expect(
      names.filter((name) => /^ö{15} until \d{4}-\d\d-\d\d \d\d:\d\d:\d\d\.\d{3}$/.test(name)),
    ).toHaveLength(1);
  });

  it("with any name is stored and restored", async () => {
    await server.query(ODD, "create table t (v text)");
    await server.query(ODD, "insert into t values ('here')");
    const { root } = await store(ODD);
    const target = `back of ${ODD}`;
    await restore(root, target, ODD);
    expect(await server.query(target, "select v from t")).toEqual([{ v: "here" }]);
  });

  it("says as cautions what the target does not have, and restores the rest", async () => {
    await server.query("postgres", "create role leaving");
    await server.query("orders", 'alter table audit."odd ""table" owner to leaving');
    const { root } = await store();
    await server.query("orders", 'alter table audit."odd ""table" owner to current_user');
    await server.query("postgres", "drop role leaving");
    const back = await restore(root, "orders_without_role");
    expect(back.cautions).toBeGreaterThan(0);
    expect(back.lines.find(({ code }) => code === "restore.statement-failed")!.message).toContain(
      '"leaving" does not exist',
    );
    expect(await server.query("orders_without_role", "select * from customers")).toHaveLength(3);
  });

  it("gives back one table alone, also of another schema", async () => {
    const { root } = await store();
    const only = (table: { schema: string; name: string }, folder: string | null) =>
      restore(root, folder, "orders", connection(), "/", table);
    await only({ schema: "public", name: "customers" }, "only_customers");
    expect((await server.content("only_customers")).map((line) => line.split(" ")[0])).toEqual([
      "public.customers",
      "public.customers",
      "public.customers",
    ]);
    await only({ schema: "audit", name: 'odd "table' }, "only_odd");
    expect(await server.content("only_odd")).toHaveLength(1);
    await expect(only({ schema: "public", name: "none" }, "x")).rejects.toMatchObject({ code: "not-found" });
    await expect(only({ schema: "public", name: "customers" }, null)).rejects.toMatchObject({
      code: "restore.cannot-write",
    });
  });

  it("leaves out the rows of tables that a policy names, not their definitions", async () => {
    const { root } = await store("orders", null, { excludeData: ["big", "audit.*"] });
    await restore(root, "orders_small");
    expect(await server.query("orders_small", "select * from big")).toEqual([]);
    expect(await server.query("orders_small", "select * from customers")).toHaveLength(3);
    expect(databaseWhat.safeParse({ excludeData: ["x|y"] }).success).toBe(false);
  });

  it("is looked into without restoring it: definitions, first rows, odd names and values", async () => {
    const { root } = await store();
    const customers = (await databaseTable(depot.reader(), root, "public", "customers"))!;
    expect(customers.columns).toEqual(["id", "name", "note"]);
    expect(customers.rows).toEqual([
      ["1", "Ada", null],
      ["2", "Till\tTab", "line\nend \\N"],
      ["3", "Möbel", ""],
    ]);
    expect(customers.more).toBe(false);
    expect(customers.definition).toMatch(/^CREATE TABLE public.customers/);
    expect(customers.definition).not.toMatch(/restrict /);
    const big = (await databaseTable(depot.reader(), root, "public", "big"))!;
    expect([big.rows.length, big.more]).toEqual([50, true]);
    const odd = (await databaseTable(depot.reader(), root, "audit", 'odd "table'))!;
    expect(odd.columns).toEqual(["at", "a b"]);
    expect(await databaseTable(depot.reader(), root, "public", "nothing")).toBeNull();
  });

  it("is looked into also where its rows are very wide: what fits is shown", async () => {
    await server.query(
      "orders",
      "create table wide as select n, repeat('w', 3000000) as w from generate_series(1, 8) n",
    );
    const { root } = await store();
    const wide = (await databaseTable(depot.reader(), root, "public", "wide"))!;
    expect(wide.rows.map(([n, w]) => [n, w!.length])).toEqual([
      ["1", 301],
      ["2", 301],
    ]);
    expect(wide.more).toBe(true);
    await server.query("orders", "drop table wide");
  });

  it("needs no superuser: its owner stores it, with roles but without their passwords", async () => {
    await server.query(
      "orders",
      "grant usage on schema audit to baker; grant select on all tables in schema audit, public to baker",
    );
    const { root } = await store("orders", null, {}, connection({ user: "baker" }, "flour"));
    const globals = await file(root, "globals.sql");
    expect(globals).toContain("CREATE ROLE baker");
    expect(globals).not.toContain("SCRAM");
    await expect(
      restore(root, "not_allowed", "orders", connection({ user: "baker" }, "flour")),
    ).rejects.toMatchObject({ code: "restore.cannot-write" });
  });

  it("fails where the server ends the dump, with its words, and leaves no session and no folder", async () => {
    const { reader } = await DATABASE_ACCESS.open(connection(), "orders", databaseWhat.parse({}), UNKNOWN);
    const open = reader.open.bind(reader);
    reader.open = async (path) => {
      const opened = await open(path);
      if (path === "/database.dump")
        for (let tries = 0; tries < 100; tries += 1) {
          const ended = await server.query(
            "postgres",
            "select pg_terminate_backend(pid) from pg_stat_activity where application_name = 'deep-keep pg_dump'",
          );
          if (ended.length > 0) break;
        }
      return opened;
    };
    await expect(snap(depot, "", { reader })).rejects.toMatchObject({ code: "source.dump-failed" });
    reader.end?.();
    for (let tries = 0; tries < 50 && (await sessions()) > 0; tries += 1)
      await new Promise((done) => setTimeout(done, 100));
    expect(await sessions()).toBe(0);
    expect(leftFolders()).toEqual([]);
  });

  it("that is stopped while it is restored leaves nothing behind", async () => {
    const { root } = await store();
    const control = new AbortController();
    const reading = depot.reader();
    const work = {
      items: [{ store: reading, root, path: "/", momentLabel: "" }],
      folder: "stopped",
      expect: () => control.abort(new Error("stopped by a person")),
      log: () => {},
      progress: { items: 0, bytes: 0 },
      signal: control.signal,
    };
    await expect(DATABASE_ACCESS.restore(connection(), "orders", work)).rejects.toThrow(
      "stopped by a person",
    );
    expect(await server.query("postgres", "select from pg_database where datname = 'stopped'")).toHaveLength(
      0,
    );
    await expect(restore(root, "x", "orders", connection(), "/schema.sql")).rejects.toMatchObject({
      code: "restore.cannot-write",
    });
  });
});

describe("the output of pg_restore", () => {
  it.each([
    ["\\N", null],
    ["a\\tb\\nc\\\\d", "a\tb\nc\\d"],
    ["", ""],
    ["\\.x", ".x"],
  ])("%s is a value", (text, value) => expect(copyValue(text)).toBe(value));

  it("is read to the end of the table or the rows that are shown, and no sooner", () => {
    const copy = 'COPY public.t (id, "a, b") FROM stdin;';
    expect(rowsOf(["-- comment", copy, "1\tx", "\\."])).toEqual({
      columns: ["id", "a, b"],
      rows: [["1", "x"]],
      more: false,
    });
    expect(rowsOf([copy, "1\tx"])).toBeNull();
    expect(rowsOf([copy, "1\tx"], true)).toMatchObject({ rows: [["1", "x"]], more: true });
    expect(rowsOf(["nothing"])).toBeNull();
    expect(rowsOf([copy, ...Array.from({ length: 51 }, (_, n) => `${n}\tx`)])).toMatchObject({ more: true });
  });
});
