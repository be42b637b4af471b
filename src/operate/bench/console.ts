import { mkdirSync } from "node:fs";
import { join } from "node:path";
import pg from "pg";
import { VIEW_MAKERS } from "@/app/views/makers";
import type { View } from "@/core/places";
import { clientById, readProvider } from "@/db/clients";
import { migrate } from "@/db/migrate";
import type { Person } from "@/db/people";
import { countNights } from "@/db/runs";
import type { Tx } from "@/db/scope";
import { tickSchedules } from "@/runs/tick";
import { resolvePlace } from "@/server/place";
import { makeServices, type Services } from "@/server/services";
import { readSettings } from "@/server/settings";
import { clientStatement, periodOf } from "@/server/statement";
import { statementPdf } from "@/server/statement-pdf";
import { ensureMasterKey, startCluster, stopCluster } from "../cluster";
import { type Figure, figure, inFolder, say } from "./ground";

const CLIENTS = Number(process.env.DEEPKEEP_BENCH_CLIENTS ?? 300);
const SOURCES = Number(process.env.DEEPKEEP_BENCH_SOURCES ?? 20_000);
const RUNS = Number(process.env.DEEPKEEP_BENCH_RUNS ?? 2_000_000);
const POINTS = Number(process.env.DEEPKEEP_BENCH_POINTS ?? 3_000_000);
/** So many sources one of the clients has. */
const LARGE = 400;
const WARMING = 10;
const TURNS = 40;
/** What is wanted of Watch, Sources and Runs, and what we want of the others. */
const VIEW_LIMIT_MS = 100;
const OTHER_LIMIT_MS = 300;
const TICK_LIMIT_MS = 1000;
const DOCUMENT_LIMIT_MS = 2000;

const SOMEBODY: Person = {
  id: "00000000-0000-4000-8000-000000000001",
  clientId: null,
  email: "somebody@lanternfold.example",
  name: "Somebody",
  role: "owner",
  clientIds: null,
  factor: false,
  factorMissing: false,
};

/** Fills a console as a large provider has it, by SQL. Everything is spread over the last hundred days. */
async function fill(services: Services, owner: pg.Client): Promise<void> {
  const per = Math.ceil(SOURCES / CLIENTS);
  const day = "interval '1 day'";
  const statements = [
    "insert into provider (name, zone) values ('Lanternfold', 'Europe/London')",
    `insert into clients (id, slug, name, zone, region, contact_name, contact_email, created_at)
     select gen_random_uuid(), 'client-' || i, 'Client ' || i, 'Europe/London', 'north harbour', 'n', 'n@client.example', now() from generate_series(1, ${CLIENTS}) i`,
    `insert into sites (id, client_id, slug, name) select gen_random_uuid(), id, 'main', 'Main' from clients`,
    `insert into client_keys (client_id, sealed, created_at, confirmed_at, asked_group) select id, '\\x00', now(), now(), 0 from clients`,
    `insert into depots (id, name, kind, path, region, created_at)
     select gen_random_uuid(), 'Depot ' || i, 'folder', '/srv/depots/' || i, 'north harbour', now() from generate_series(1, 20) i`,
    `insert into grants (depot_id, client_id, space_id, quota_bytes, created_at)
     select (array(select id from depots order by name))[1 + (row_number() over (order by c.id)) % 20], c.id, gen_random_uuid(), 1e13::bigint, now() from clients c`,
    `insert into policies (id, client_id, level, name, clauses, changed_at, changed_by)
     select gen_random_uuid(), g.client_id, 'group', 'Every evening', jsonb_build_object(
       'what', '{"folders": ["/home"], "include": [], "exclude": []}'::jsonb,
       'when', '{"schedules": [{"rule": "FREQ=DAILY;BYHOUR=21;BYMINUTE=30", "pass": "incremental"}], "windows": [], "stopAfterHours": null, "missed": "at-once", "after": null, "spreadMinutes": 60, "targetHours": 26}'::jsonb,
       'conduct', '{"compression": "fast", "bandwidth": [], "before": null, "after": null, "retries": 2, "retryMinutes": 10, "drillDays": null}'::jsonb,
       'notices', '{"on": [], "mail": [], "webhooks": [], "digestAt": null, "quiet": null}'::jsonb,
       'howLong', '{"kind": "days", "days": 90}'::jsonb,
       'where', jsonb_build_object('depotId', g.depot_id, 'beside', '[]'::jsonb, 'atOnce', 2, 'carryTo', '[]'::jsonb, 'whenAway', 'wait')), now(), 'bench' from grants g`,
    `insert into machines (id, client_id, site_id, name, token_hash, public_key, system, enrolled_at, seen_at)
     select gen_random_uuid(), s.client_id, s.id, 'm-' || i, decode(md5(s.id::text || i), 'hex'), '\\x00', '{}', now(), now() from sites s join clients c on c.id = s.client_id, generate_series(1, case when c.slug = 'client-7' then ${LARGE} else ${per} end) i`,
    `insert into sources (id, client_id, site_id, machine_id, kind, name, policy_id, rules, next_due_at, created_at)
     select gen_random_uuid(), m.client_id, m.site_id, m.id, 'files', m.name || ' files', p.id, p.clauses, now() + random() * ${day}, now()
     from machines m join policies p on p.client_id = m.client_id`,
    `insert into runs (id, client_id, source_id, machine_id, kind, cause, due_at, state, outcome, code, attempt, started_at, ended_at, request, figures)
     select gen_random_uuid(), s.client_id, s.id, s.machine_id, 'backup', 'schedule', at, 'ended', case when lot < 0.93 then 'clean' when lot < 0.97 then 'caution' else 'failed' end,
       case when lot < 0.93 then null when lot < 0.97 then 'file.changed-while-read' else 'depot.not-reached' end, 1, at, at + interval '3 minutes', '{}', '{"files": 4000, "changed": 40, "storedBytes": 900000}'
     from (select s.*, now() - (i + random()) * ${day} as at, random() as lot from sources s, generate_series(0, ${Math.ceil(RUNS / SOURCES) - 1}) i) s`,
    `insert into points (id, client_id, source_id, depot_id, moment, root, files, folders, links, bytes, added_bytes, object_bytes)
     select decode(md5(random()::text || s.id || i), 'hex'), s.client_id, s.id, (s.rules->'where'->>'depotId')::uuid, now() - (i + random()) * ${day} * 0.6, '\\x00', 4000, 300, 2, 2e9::bigint, 900000, 900
     from sources s, generate_series(0, ${Math.ceil(POINTS / SOURCES) - 1}) i`,
    `insert into usage_days (day, client_id, depot_id, kind, sources, protected_bytes, stored_bytes)
     select (now() - i * ${day})::date, client_id, depot_id, 'files', 60, 1e11::bigint, 5e10::bigint from grants, generate_series(0, 90) i`,
  ];
  // what the triggers would do for each row is done once at the end
  for (const table of ["runs", "points"]) await owner.query(`alter table ${table} disable trigger user`);
  for (const statement of statements)
    await services.db.withScope({ role: "system" }, (tx) => tx.query(statement));
  for (const table of ["runs", "points"]) await owner.query(`alter table ${table} enable trigger user`);
  await owner.query("analyze");
  for (let at = 0; at < SOURCES; at += 1000)
    await owner.query("select summarize(array(select id from sources order by id offset $1 limit 1000))", [
      at,
    ]);
}

const percentile = (times: readonly number[], share: number): number =>
  [...times].sort((a, b) => a - b)[Math.min(times.length - 1, Math.floor(times.length * share))]!;

/** Views as the console shows them: the name of each, where it is, what is asked, and its limit in milliseconds. */
const VIEWS_MEASURED: readonly (readonly [
  name: string,
  view: View,
  segments: readonly string[],
  search: Readonly<Record<string, string>>,
  limit: number,
])[] = [
  ["Watch, all clients", "watch", [], {}, VIEW_LIMIT_MS],
  ["Watch, the client with 400 sources", "watch", ["client-7"], {}, VIEW_LIMIT_MS],
  ["Sources, all clients", "sources", [], {}, VIEW_LIMIT_MS],
  ["Sources, found by typing", "sources", [], { q: "m-6" }, VIEW_LIMIT_MS],
  ["Sources, one client", "sources", ["client-7"], {}, VIEW_LIMIT_MS],
  ["Runs, all clients", "runs", [], {}, VIEW_LIMIT_MS],
  ["Runs, the failed ones", "runs", [], { outcome: "failed" }, VIEW_LIMIT_MS],
  ["Load, all clients", "runs", [], { part: "load" }, OTHER_LIMIT_MS],
  ["Messages", "runs", [], { part: "messages" }, OTHER_LIMIT_MS],
  ["Policies, all clients", "policies", [], {}, OTHER_LIMIT_MS],
  ["Policies, one client", "policies", ["client-7"], {}, OTHER_LIMIT_MS],
  ["Depots, all clients", "depots", [], {}, OTHER_LIMIT_MS],
  ["Depots, one client", "depots", ["client-7"], {}, OTHER_LIMIT_MS],
  ["Restore, choosing a source", "restore", [], {}, OTHER_LIMIT_MS],
  ["Statements, all clients", "statements", [], {}, OTHER_LIMIT_MS],
  ["Usage, all clients", "statements", [], { part: "usage" }, OTHER_LIMIT_MS],
  ["Statement of 400 sources", "statements", ["client-7"], {}, OTHER_LIMIT_MS],
  ["Trail, all clients", "trail", [], {}, OTHER_LIMIT_MS],
];

/** Milliseconds of several turns of a view, and of their queries alone. The first turns do not count: a web runs for days. */
async function measureView(
  services: Services,
  view: View,
  segments: readonly string[],
  search: Readonly<Record<string, string>>,
  now: Date,
): Promise<{ times: number[]; queries: number[] }> {
  const times: number[] = [];
  const queries: number[] = [];
  for (let turn = -WARMING; turn < TURNS; turn += 1)
    await services.db.withScope({ role: "provider" }, async (tx) => {
      let asking = 0;
      const timed = {
        query: async (sql: string, values?: unknown[]) => {
          const asked = performance.now();
          const answer = await tx.query(sql, values);
          asking += performance.now() - asked;
          return answer;
        },
      } as Tx;
      const started = performance.now();
      const place = await resolvePlace(timed, [...segments, view]);
      if (!place) throw new Error(`there is no view ${view} of ${segments.join("/")}`);
      await VIEW_MAKERS[view]({
        tx: timed,
        place,
        now,
        provider: (await readProvider(timed))!,
        portal: false,
        person: SOMEBODY,
        session: null,
        ask: (name) => search[name],
        href: () => "",
      });
      if (turn < 0) return;
      times.push(performance.now() - started);
      queries.push(asking);
    });
  return { times, queries };
}

/** The server's share of each view, and the scheduler's tick, over the console of a large provider. */
export const benchConsole = (): Promise<Figure[]> =>
  inFolder(async (folder) => {
    const home = join(folder, "console");
    mkdirSync(join(home, "log"), { recursive: true });
    ensureMasterKey(home);
    const access = await startCluster(home, { fsync: "off", shared_buffers: "2GB", max_wal_size: "8GB" });
    try {
      await migrate(access.owner, access.appPassword, join(process.cwd(), "src/db/migrations"));
      const services = makeServices(readSettings({ ...process.env, DEEPKEEP_HOME: home }));
      const begun = performance.now();
      const owner = new pg.Client({ connectionString: access.owner });
      await owner.connect();
      await fill(services, owner);
      // as the triggers would have it
      await owner.query("update nights_counted set until = '2000-01-01Z'");
      await services.db.withScope({ role: "system" }, (tx) =>
        countNights(tx, new Date(services.now().getTime() - 3_600_000)),
      );
      await owner.query("vacuum analyze");
      await owner.end();
      say(
        `${CLIENTS} clients, ${SOURCES.toLocaleString("en-GB")} sources, ${RUNS.toLocaleString("en-GB")} runs, ${POINTS.toLocaleString("en-GB")} points, filled in ${((performance.now() - begun) / 1000).toFixed(0)} s; ${TURNS} turns each`,
      );
      const now = services.now();
      const client = await services.db.withScope(
        { role: "system" },
        async (tx) =>
          (await tx.query("select id from clients where slug = 'client-7'")).rows[0] as { id: string },
      );
      const figures: Figure[] = [];
      for (const [name, view, segments, search, limit] of VIEWS_MEASURED) {
        const { times, queries } = await measureView(services, view, segments, search, now);
        say(
          `  ${name}: median ${percentile(times, 0.5).toFixed(1)} ms, 95th percentile ${percentile(times, 0.95).toFixed(1)}; its queries alone ${percentile(queries, 0.5).toFixed(1)}, ${percentile(queries, 0.95).toFixed(1)}`,
        );
        figures.push(
          figure(`${name}, 95th percentile`, "ms", percentile(times, 0.95), "its limit", limit, 1),
        );
      }
      const documents: number[] = [];
      for (let turn = 0; turn < 5; turn += 1)
        await services.db.withScope({ role: "system" }, async (tx) => {
          const started = performance.now();
          const whole = (await clientById(tx, client.id))!;
          const statement = await clientStatement(tx, whole, periodOf(whole, undefined, undefined, now), now);
          await statementPdf(statement, "Lanternfold", "a4", now);
          documents.push(performance.now() - started);
        });
      figures.push(
        figure(
          `a statement of ${LARGE} sources as PDF`,
          "ms",
          percentile(documents, 0.95),
          "its limit",
          DOCUMENT_LIMIT_MS,
          1,
        ),
      );
      const ticks: number[] = [];
      for (let turn = 0; turn < 5; turn += 1) {
        const started = performance.now();
        await tickSchedules(services);
        ticks.push(performance.now() - started);
      }
      figures.push(
        figure("a tick with nothing due", "ms", percentile(ticks, 0.95), "its limit", TICK_LIMIT_MS, 1),
      );
      await services.db.withScope({ role: "system" }, (tx) =>
        tx.query(
          "update sources set next_due_at = now() - interval '1 second' where id in (select id from sources limit 1000)",
        ),
      );
      const started = performance.now();
      const made = await tickSchedules(services);
      figures.push(
        figure(
          `a tick that makes ${made} runs`,
          "ms",
          performance.now() - started,
          "its limit",
          TICK_LIMIT_MS,
          1,
        ),
      );
      await services.db.end();
      return figures;
    } finally {
      await stopCluster(access, "immediate");
    }
  });
