import { cpSync, mkdirSync, readdirSync } from "node:fs";
import { join } from "node:path";
import pg from "pg";
import { afterAll, beforeAll, expect, it } from "vitest";
import { readClauses } from "@/core/policy/clauses";
import { migrate } from "@/db/base/migrate";
import { type DatabaseAccess, ensureMasterKey, startCluster, stopCluster } from "@/operate/cluster";
import { freshFolder } from "../depot";

/** A database of an earlier version keeps what it has when it is brought up to this one. */
const home = freshFolder("upgrade");
const all = join(process.cwd(), "src/db/migrations");
let access: DatabaseAccess;
let owner: pg.Client;

beforeAll(async () => {
  mkdirSync(join(home, "log"));
  ensureMasterKey(home);
  access = await startCluster(home, { fsync: "off" });
  const earlier = join(home, "earlier");
  mkdirSync(earlier);
  for (const name of readdirSync(all)) if (name < "0013") cpSync(join(all, name), join(earlier, name));
  await migrate(access.owner, access.appPassword, earlier);
  owner = new pg.Client({ connectionString: access.owner });
  await owner.connect();
});
afterAll(async () => {
  await owner?.end();
  if (access) await stopCluster(access, "immediate");
});

const WHAT = { folders: ["/srv"], include: [], exclude: ["*.tmp"] };
const SCHEDULES: readonly (readonly [object, string[]])[] = [
  [{ kind: "daily", at: "21:05" }, ["FREQ=DAILY;BYHOUR=21;BYMINUTE=5"]],
  [{ kind: "weekly", at: "06:30", days: [7, 3] }, ["FREQ=WEEKLY;BYDAY=WE,SU;BYHOUR=6;BYMINUTE=30"]],
  [{ kind: "every", hours: 12 }, ["FREQ=HOURLY;INTERVAL=12"]],
  [{ kind: "on-demand" }, []],
];

it("rewrites schedules as rules, keeps selections as they were, and sums up what is there", async () => {
  const one = async <Row>(sql: string, values: unknown[] = []) =>
    (await owner.query(sql, values)).rows[0] as Row;
  const { id: clientId } = await one<{ id: string }>(
    "insert into clients (id, slug, name, zone, region, contact_name, contact_email, created_at) values (gen_random_uuid(), 'old', 'Old', 'Europe/London', 'r', 'n', 'n@old.example', now()) returning id",
  );
  const { id: siteId } = await one<{ id: string }>(
    "insert into sites (id, client_id, slug, name) values (gen_random_uuid(), $1, 'main', 'Main') returning id",
    [clientId],
  );
  const { id: depotId } = await one<{ id: string }>(
    "insert into depots (id, name, kind, path, region, created_at) values (gen_random_uuid(), 'Quay', 'folder', '/srv/quay', 'r', now()) returning id",
  );
  for (const [i, [schedule]] of SCHEDULES.entries()) {
    const clauses = {
      what: WHAT,
      when: { schedule, targetHours: 26 },
      howLong: { kind: "days", days: 30 },
      where: { depotId, beside: [], carryTo: [], atOnce: 2, whenAway: "wait" },
    };
    const { id: policyId } = await one<{ id: string }>(
      "insert into policies (id, client_id, level, name, clauses, changed_at, changed_by) values (gen_random_uuid(), $1, 'group', $2, $3, now(), 'x') returning id",
      [clientId, `Policy ${i}`, JSON.stringify(clauses)],
    );
    await owner.query(
      "insert into policy_revisions (policy_id, client_id, revision, name, clauses, changed_at, changed_by) values ($1, $2, 1, $3, $4, now(), 'x')",
      [policyId, clientId, `Policy ${i}`, JSON.stringify(clauses)],
    );
    const { id: sourceId } = await one<{ id: string }>(
      "insert into sources (id, client_id, site_id, kind, name, policy_id, rules, created_at) values (gen_random_uuid(), $1, $2, 'files', $3, $4, $5, now()) returning id",
      [clientId, siteId, `source ${i}`, policyId, JSON.stringify(clauses)],
    );
    for (const [days, added] of [
      [3, 1000],
      [2, 10],
      [1, 30],
    ] as const)
      await owner.query(
        `insert into points (id, client_id, source_id, depot_id, moment, root, files, folders, links, bytes, added_bytes, object_bytes)
         values (decode(md5(random()::text), 'hex'), $1, $2, $3, now() - $4 * interval '1 day', '\\x00', 7, 1, 0, $5, $6, 9)`,
        [clientId, sourceId, depotId, days, 5000 + (3 - days) * 100, added],
      );
  }
  await migrate(access.owner, access.appPassword, all);
  const { rows } = await owner.query(
    `select p.name, p.clauses, r.clauses as revision, s.rules, u.points, u.bytes::int, u.stored_bytes::int as stored, u.added_mean as mean, u.grown_per_day as grown
     from policies p join policy_revisions r on r.policy_id = p.id join sources s on s.policy_id = p.id join source_summaries u on u.source_id = s.id order by p.name`,
  );
  for (const [i, row] of rows.entries()) {
    for (const kept of [row.clauses, row.revision, row.rules]) {
      const read = readClauses(kept);
      expect(read.when.schedules.map(({ rule }) => rule)).toEqual(SCHEDULES[i]![1]);
      expect(read.when.targetHours).toBe(26);
      expect(read.what).toEqual({
        files: { ...WHAT, rubbish: false, largestBytes: null, changedWithinDays: null },
      });
    }
    expect(row).toMatchObject({ points: 3, bytes: 5200, stored: 1040, mean: 20 });
    expect(row.grown).toBeCloseTo(100, 0);
  }
});

/** Brings a database up to the version before a migration, and then to the newest. */
it("gives each policy a What for the kinds of source that it applied to", async () => {
  const home2 = join(home, "kinds");
  mkdirSync(home2);
  const before = join(home2, "before");
  mkdirSync(before);
  for (const name of readdirSync(all)) if (name < "0045") cpSync(join(all, name), join(before, name));
  await owner.query("create database kinds");
  const url = new URL(access.owner);
  url.pathname = "/kinds";
  await migrate(url.href, access.appPassword, before);
  const database = new pg.Client({ connectionString: url.href });
  await database.connect();
  try {
    const id = async (sql: string, values: unknown[] = []) =>
      (await database.query(`${sql} returning id`, values)).rows[0].id as string;
    const clientId = await id(
      "insert into clients (id, slug, name, zone, region, contact_name, contact_email, created_at) values (gen_random_uuid(), 'old', 'Old', 'Europe/London', 'r', 'n', 'n@old.example', now())",
    );
    const siteId = await id(
      "insert into sites (id, client_id, slug, name) values (gen_random_uuid(), $1, 'main', 'Main')",
      [clientId],
    );
    const policy = async (name: string, what: object, kinds: readonly string[]) => {
      const clauses = JSON.stringify({ what, when: { schedules: [], targetHours: 26 } });
      const policyId = await id(
        "insert into policies (id, client_id, level, name, clauses, changed_at, changed_by) values (gen_random_uuid(), $1, 'group', $2, $3, now(), 'x')",
        [clientId, name, clauses],
      );
      await database.query(
        "insert into policy_revisions (policy_id, client_id, revision, name, clauses, changed_at, changed_by) values ($1, $2, 1, $3, $4, now(), 'x')",
        [policyId, clientId, name, clauses],
      );
      for (const kind of kinds)
        await database.query(
          "insert into sources (id, client_id, site_id, kind, name, policy_id, rules, created_at) values (gen_random_uuid(), $1, $2, $3, $4, $5, $6, now())",
          [clientId, siteId, kind, `${name} ${kind}`, policyId, clauses],
        );
    };
    const machines = { folders: ["/"], exclude: ["*.mp4"], include: [], rubbish: true };
    const mailboxes = { folders: ["/"], exclude: ["/Drafts"], include: [], rubbish: false };
    const inboxes = { folders: ["/Inbox"], exclude: [], include: [], rubbish: false };
    await policy("machines", machines, ["files"]);
    await policy("mailboxes", mailboxes, ["mail"]);
    await policy("both", inboxes, ["files", "mail"]);
    await policy("nobody", inboxes, []);
    await migrate(url.href, access.appPassword, all);
    const { rows } = await database.query(
      "select p.name, p.clauses->'what' as what, r.clauses->'what' as revision, array(select s.rules->'what' from sources s where s.policy_id = p.id) as rules from policies p join policy_revisions r on r.policy_id = p.id",
    );
    const wanted: Record<string, object> = {
      machines: { files: machines },
      mailboxes: { mail: { folders: [], exclude: ["/Drafts"] } },
      both: { files: inboxes, mail: { folders: ["/Inbox"], exclude: [] } },
      nobody: { files: inboxes },
    };
    expect(rows).toHaveLength(4);
    for (const { name, what, revision, rules } of rows)
      for (const found of [what, revision, ...rules]) expect([name, found]).toEqual([name, wanted[name]]);
  } finally {
    await database.end();
  }
});
