import { setTimeout as pause } from "node:timers/promises";
import pg from "pg";
import { VIEW_MAKERS } from "@/app/views/makers";
import type { View } from "@/core/places";
import type { Person } from "@/db/access/people";
import type { Tx } from "@/db/base/scope";
import { clientById, readProvider } from "@/db/clients/clients";
import { countNights } from "@/db/runs/runs";
import { tickFollowers, tickSchedules } from "@/runs/tick";
import type { Services } from "@/server/base/services";
import { resolvePlace } from "@/server/depots/place";
import { clientStatement, periodOf } from "@/server/statements/statement";
import { statementPdf } from "@/server/statements/statement-pdf";
import { inConsole } from "./bench-console";
import { type Figure, figure, percentile, say } from "./ground";
import { fillConsole } from "./large-console";

const CLIENTS = Number(process.env.DEEPKEEP_BENCH_CLIENTS ?? 300);
const SOURCES = Number(process.env.DEEPKEEP_BENCH_SOURCES ?? 20_000);
const RUNS = Number(process.env.DEEPKEEP_BENCH_RUNS ?? 2_000_000);
const POINTS = Number(process.env.DEEPKEEP_BENCH_POINTS ?? 3_000_000);
/** So many sources one of the clients has. */
const LARGE = 400;
const WARMING = 10;
/** How long the disk has for what was filled. */
const SETTLING_MS = 40_000;
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

/** Half of all sources follow the others' policy of one client, whose runs are older than theirs: none is to run now. */
async function measureFollowers(services: Services): Promise<Figure> {
  const followers = await services.db.withScope({ role: "system" }, async (tx) => {
    const { rows } = await tx.query(
      "select policy_id as id from sources group by 1 order by count(*) desc limit 1",
    );
    const lead = rows[0] as { id: string };
    await tx.query(
      "update runs set ended_at = ended_at - interval '1000 days' where source_id in (select id from sources where policy_id = $1)",
      [lead.id],
    );
    const { rowCount } = await tx.query(
      `update sources set rules = jsonb_set(rules, '{when,after}', to_jsonb($1::text))
       where id in (select id from sources where policy_id <> $1::uuid and not paused limit $2)`,
      [lead.id, SOURCES / 2],
    );
    return rowCount!;
  });
  const ticks: number[] = [];
  for (let turn = 0; turn < 5; turn += 1) {
    const started = performance.now();
    const made = await tickFollowers(services);
    if (made > 0) throw new Error(`${made} runs were made that should not`);
    ticks.push(performance.now() - started);
  }
  const name = `looking for what follows, ${followers.toLocaleString("en-GB")} that do`;
  return figure(name, "ms", percentile(ticks, 0.95), "its limit", TICK_LIMIT_MS, 1);
}

/** The server's share of each view, and the scheduler's tick, over the console of a large provider. */
export const benchConsole = (): Promise<Figure[]> =>
  inConsole(
    { fsync: "off", shared_buffers: "2GB", max_wal_size: "8GB" },
    async ({ services, owner: access }) => {
      const begun = performance.now();
      const owner = new pg.Client({ connectionString: access });
      await owner.connect();
      await fillConsole(services, owner, {
        clients: CLIENTS,
        sources: SOURCES,
        runs: RUNS,
        points: POINTS,
        large: LARGE,
      });
      // as the triggers would have it
      await owner.query("update nights_counted set until = '2000-01-01Z'");
      await services.db.withScope({ role: "system" }, (tx) =>
        countNights(tx, new Date(services.now().getTime() - 3_600_000)),
      );
      await owner.query("vacuum analyze");
      // what was filled in a few minutes is written out now, and not beside what is measured
      await owner.query("checkpoint");
      await pause(SETTLING_MS);
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
      figures.push(await measureFollowers(services));
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
      return figures;
    },
  );
