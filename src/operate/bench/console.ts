import { mkdirSync } from "node:fs";
import { join } from "node:path";
import pg from "pg";
import { clientById } from "@/db/clients";
import { migrate } from "@/db/migrate";
import { countNights, openRuns, pastRuns } from "@/db/runs";
import type { Tx } from "@/db/scope";
import { sourceStandings, standingsPage, stateCounts } from "@/db/sources";
import { tickSchedules } from "@/runs/tick";
import { makeServices, type Services } from "@/server/services";
import { readSettings } from "@/server/settings";
import { computeStanding } from "@/server/standing";
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
const TURNS = 20;
const VIEW_LIMIT_MS = 100;
const TICK_LIMIT_MS = 1000;
const DOCUMENT_LIMIT_MS = 2000;

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

/** Milliseconds of each of several turns. */
async function turns(services: Services, work: (tx: Tx) => Promise<unknown>): Promise<number[]> {
  const times: number[] = [];
  for (let turn = 0; turn < TURNS; turn += 1) {
    await services.db.withScope({ role: "provider" }, async (tx) => {
      const started = performance.now();
      await work(tx);
      times.push(performance.now() - started);
    });
  }
  return times;
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
      const parts: readonly (readonly [
        string,
        (tx: Tx) => Promise<unknown>,
        (tx: Tx) => Promise<unknown>,
      ])[] = [
        ["Watch, all clients", (tx) => computeStanding(tx, {}, now), (tx) => stateCounts(tx, {}, now)],
        [
          "Watch, one client",
          (tx) => computeStanding(tx, { clientId: client.id }, now),
          (tx) => sourceStandings(tx, { clientId: client.id }, now),
        ],
        [
          "Sources, all clients",
          (tx) => standingsPage(tx, {}, now, "", 300),
          (tx) => standingsPage(tx, {}, now, "", 300),
        ],
        [
          "Sources, all clients, found by typing",
          (tx) => standingsPage(tx, {}, now, "m-6", 300),
          (tx) => standingsPage(tx, {}, now, "m-6", 300),
        ],
        [
          "Sources, one client",
          (tx) => standingsPage(tx, { clientId: client.id }, now, "", 300),
          (tx) => sourceStandings(tx, { clientId: client.id }, now),
        ],
        [
          "Runs, all clients",
          async (tx) => [await openRuns(tx, {}), await pastRuns(tx, { limit: 100 })],
          (tx) => pastRuns(tx, { limit: 100 }),
        ],
        [
          "Runs, failed ones of all clients",
          (tx) => pastRuns(tx, { outcome: "failed", limit: 100 }),
          (tx) => pastRuns(tx, { outcome: "failed", limit: 100 }),
        ],
      ];
      const figures: Figure[] = [];
      for (const [name, work, bare] of parts) {
        const times = await turns(services, work);
        const bareTimes = await turns(services, bare);
        say(
          `  ${name}: median ${percentile(times, 0.5).toFixed(1)} ms, its bare query ${percentile(bareTimes, 0.5).toFixed(1)} ms`,
        );
        figures.push(
          figure(`${name}, 95th percentile`, "ms", percentile(times, 0.95), "its limit", VIEW_LIMIT_MS, 1),
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
