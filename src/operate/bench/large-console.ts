import type pg from "pg";
import type { Services } from "@/server/base/services";

/** How much of everything; `large`: so many sources one of the clients has. */
export interface ConsoleSize {
  readonly clients: number;
  readonly sources: number;
  readonly runs: number;
  readonly points: number;
  readonly large: number;
}

/** Fills a console as a large provider has it, by SQL. Everything is spread over the last hundred days. */
export async function fillConsole(
  services: Services,
  owner: pg.Client,
  { clients, sources, runs, points, large }: ConsoleSize,
): Promise<void> {
  const per = Math.ceil(sources / clients);
  const day = "interval '1 day'";
  const statements = [
    "insert into provider (name, zone) values ('Lanternfold', 'Europe/London')",
    `insert into clients (id, slug, name, zone, region, contact_name, contact_email, created_at)
     select gen_random_uuid(), 'client-' || i, 'Client ' || i, 'Europe/London', 'north harbour', 'n', 'n@client.example', now() from generate_series(1, ${clients}) i`,
    `insert into sites (id, client_id, slug, name) select gen_random_uuid(), id, 'main', 'Main' from clients`,
    `insert into client_keys (client_id, sealed, created_at, confirmed_at, asked_group) select id, '\\x00', now(), now(), 0 from clients`,
    `insert into depots (id, name, kind, path, region, created_at)
     select gen_random_uuid(), 'Depot ' || i, 'folder', '/srv/depots/' || i, 'north harbour', now() from generate_series(1, 20) i`,
    `insert into grants (depot_id, client_id, space_id, quota_bytes, created_at)
     select (array(select id from depots order by name))[1 + (row_number() over (order by c.id)) % 20], c.id, gen_random_uuid(), 1e13::bigint, now() from clients c`,
    `insert into policies (id, client_id, level, name, clauses, changed_at, changed_by)
     select gen_random_uuid(), g.client_id, 'group', 'Every evening', jsonb_build_object(
       'what', '{"files": {"folders": ["/home"], "include": [], "exclude": []}}'::jsonb,
       'when', '{"schedules": [{"rule": "FREQ=DAILY;BYHOUR=21;BYMINUTE=30", "pass": "incremental"}], "windows": [], "stopAfterHours": null, "missed": "at-once", "after": null, "spreadMinutes": 60, "targetHours": 26}'::jsonb,
       'conduct', '{"compression": "fast", "bandwidth": [], "before": null, "after": null, "retries": 2, "retryMinutes": 10, "drillDays": null}'::jsonb,
       'notices', '{"on": [], "mail": [], "webhooks": [], "digestAt": null, "quiet": null}'::jsonb,
       'howLong', '{"kind": "days", "days": 90}'::jsonb,
       'where', jsonb_build_object('depotId', g.depot_id, 'beside', '[]'::jsonb, 'atOnce', 2, 'carryTo', '[]'::jsonb, 'whenAway', 'wait')), now(), 'bench' from grants g`,
    `insert into machines (id, client_id, site_id, name, token_hash, public_key, system, enrolled_at, seen_at)
     select gen_random_uuid(), s.client_id, s.id, 'm-' || i, decode(md5(s.id::text || i), 'hex'), '\\x00', '{}', now(), now() from sites s join clients c on c.id = s.client_id, generate_series(1, case when c.slug = 'client-7' then ${large} else ${per} end) i`,
    `insert into sources (id, client_id, site_id, machine_id, kind, name, policy_id, rules, next_due_at, created_at)
     select gen_random_uuid(), m.client_id, m.site_id, m.id, 'files', m.name || ' files', p.id, p.clauses, now() + random() * ${day}, now()
     from machines m join policies p on p.client_id = m.client_id`,
    `insert into runs (id, client_id, source_id, machine_id, kind, cause, due_at, state, outcome, code, attempt, started_at, ended_at, request, figures)
     select gen_random_uuid(), s.client_id, s.id, s.machine_id, 'backup', 'schedule', at, 'ended', case when lot < 0.93 then 'clean' when lot < 0.97 then 'caution' else 'failed' end,
       case when lot < 0.93 then null when lot < 0.97 then 'file.changed-while-read' else 'depot.not-reached' end, 1, at, at + interval '3 minutes', '{}', '{"files": 4000, "changed": 40, "storedBytes": 900000}'
     from (select s.*, now() - (i + random()) * ${day} as at, random() as lot from sources s, generate_series(0, ${Math.ceil(runs / sources) - 1}) i) s`,
    `insert into points (id, client_id, source_id, depot_id, moment, root, files, folders, links, bytes, added_bytes, object_bytes)
     select decode(md5(random()::text || s.id || i), 'hex'), s.client_id, s.id, (s.rules->'where'->>'depotId')::uuid, now() - (i + random()) * ${day} * 0.6, '\\x00', 4000, 300, 2, 2e9::bigint, 900000, 900
     from sources s, generate_series(0, ${Math.ceil(points / sources) - 1}) i`,
    `insert into usage_days (day, client_id, depot_id, kind, sources, protected_bytes, stored_bytes)
     select (now() - i * ${day})::date, client_id, depot_id, 'files', 60, 1e11::bigint, 5e10::bigint from grants, generate_series(0, 90) i`,
    "insert into usage_noted select distinct day from usage_days on conflict do nothing",
  ];
  // what the triggers would do for each row is done once at the end
  for (const table of ["runs", "points"]) await owner.query(`alter table ${table} disable trigger user`);
  for (const statement of statements)
    await services.db.withScope({ role: "system" }, (tx) => tx.query(statement));
  for (const table of ["runs", "points"]) await owner.query(`alter table ${table} enable trigger user`);
  await owner.query("analyze");
  for (let at = 0; at < sources + large; at += 1000)
    await owner.query("select summarize(array(select id from sources order by id offset $1 limit 1000))", [
      at,
    ]);
}
