import { readdirSync, readFileSync } from "node:fs";
import { join } from "node:path";
import pg from "pg";
import { afterAll, beforeAll, describe, expect, it } from "vitest";
import { all, one } from "@/db/base/scope";
import { STORED } from "@/db/base/stored";
import { clientById } from "@/db/clients/clients";
import { makeClient, type TestClient } from "../client";
import { TestConsole } from "../test-console";

let console_: TestConsole;
let client: TestClient;
const system = <T>(work: (tx: pg.PoolClient) => Promise<T>) =>
  console_.services.db.withScope({ role: "system" }, work);

beforeAll(async () => {
  console_ = await TestConsole.start();
  client = await makeClient(console_, "Saltrow Ferries");
});
afterAll(() => console_?.stop());

describe("what is stored as jsonb", () => {
  it("has a schema for each column of the catalogue, and none for another", async () => {
    const columns = await system((tx) =>
      all<{ name: string }>(
        tx,
        `select c.relname || '.' || a.attname as name from pg_attribute a join pg_class c on c.oid = a.attrelid
         where a.atttypid = 'jsonb'::regtype and c.relnamespace = 'public'::regnamespace and c.relkind = 'r' and not a.attisdropped`,
      ),
    );
    expect(Object.keys(STORED).sort()).toEqual(columns.map(({ name }) => name).sort());
  });

  it("is parsed where it is read, and refused where it is not what it should be", async () => {
    const read = () => system((tx) => clientById(tx, client.id));
    expect((await read())?.limits).toEqual({ atOnce: null, bandwidth: [] });
    const owner = new pg.Client(console_.access.owner);
    await owner.connect();
    const set = (limits: object) => owner.query("update clients set limits = $1", [JSON.stringify(limits)]);
    // a limit as an earlier version stored it gets what was added since
    await set({ atOnce: 2, bandwidth: [{ kibPerSecond: 64 }] });
    expect((await read())?.limits).toEqual({ atOnce: 2, bandwidth: [{ hours: null, kibPerSecond: 64 }] });
    await set({ atOnce: "two" });
    await expect(read()).rejects.toThrow(/clients\.limits is not what it should be/);
    await set({ atOnce: null, bandwidth: [] });
    await owner.end();
    // what a statement computes is as it computed it
    expect(await system((tx) => one(tx, "select jsonb_build_object('boats', 2) as made"))).toEqual({
      made: { boats: 2 },
    });
  });
});

/** Where statements of SQL may stand besides `src/db`: programs that measure, fill or mend a whole database; clients' databases. */
const ALSO = /^(operate\/(bench\/|master-key\.ts)|demo\/(seed|databases)\.ts|kinds\/database\/)/;

describe("statements of SQL", () => {
  it("stand in src/db alone", () => {
    const root = join(import.meta.dirname, "../../src");
    const files = readdirSync(root, { recursive: true, encoding: "utf8" }).filter(
      (path) =>
        /\.tsx?$/.test(path) && !/\.test\.tsx?$/.test(path) && !path.startsWith("db/") && !ALSO.test(path),
    );
    expect(files.length).toBeGreaterThan(300);
    const found = files.filter((path) =>
      /["'`]\s*(select\s[^"'`]+\sfrom\s|select 1\b|insert into |update \w+ set |delete from |with \w+ as \()/.test(
        readFileSync(join(root, path), "utf8"),
      ),
    );
    expect(found).toEqual([]);
  });
});
