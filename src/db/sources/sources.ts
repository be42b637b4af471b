import type { Code } from "@/core/codes";
import type { ClientId, ConnectionId, DepotId, MachineId, PolicyId, SiteId, SourceId } from "@/core/ids";
import type { ClauseName, InForce, Origin } from "@/core/policy/cascade";
import type { Clauses } from "@/core/policy/clauses";
import { type Outcome, type ProtectionState, STATES } from "@/core/protection/state";
import type { SourceKind } from "@/kinds";
import { all, allPlanned, change, one, type Tx } from "../base/scope";
import type { BurstEvidence } from "../points/holds";

export interface Source {
  readonly id: SourceId;
  readonly clientId: ClientId;
  readonly siteId: SiteId;
  /** Set for what an agent reads. */
  readonly machineId: MachineId | null;
  /** Set for what the runner reads over the network, with the name of it at the far end. */
  readonly connectionId: ConnectionId | null;
  readonly remoteId: string | null;
  /** When the far end was first found without it; its points remain. */
  readonly vanishedAt: Date | null;
  readonly kind: SourceKind;
  readonly name: string;
  /** The group that it belongs to. */
  readonly policyId: PolicyId | null;
  readonly tags: readonly string[];
  /** The clauses in force; null while one of them is given at no level, and then nothing runs. */
  readonly rules: Clauses | null;
  readonly origins: Partial<Record<ClauseName, Origin>>;
  readonly paused: boolean;
  readonly nextDueAt: Date | null;
  readonly lastDueAt: Date | null;
}

const SOURCE = `s.id, s.client_id as "clientId", s.site_id as "siteId", s.machine_id as "machineId",
  s.connection_id as "connectionId", s.remote_id as "remoteId", s.vanished_at as "vanishedAt", s.kind, s.name,
  s.policy_id as "policyId", s.tags, s.rules, s.origins, s.paused, s.next_due_at as "nextDueAt", s.last_due_at as "lastDueAt"`;

export const sourceById = (tx: Tx, id: SourceId) =>
  one<Source>(tx, `select ${SOURCE} from sources s where s.id = $1`, [id]);

/** Adds a source that nobody looks after yet. */
export const insertSource = (
  tx: Tx,
  source: Pick<
    Source,
    "id" | "clientId" | "siteId" | "machineId" | "connectionId" | "remoteId" | "kind" | "name"
  >,
  now: Date,
) =>
  change(
    tx,
    `insert into sources (id, client_id, site_id, machine_id, connection_id, remote_id, kind, name, created_at)
     values ($1, $2, $3, $4, $5, $6, $7, $8, $9)`,
    [
      source.id,
      source.clientId,
      source.siteId,
      source.machineId,
      source.connectionId,
      source.remoteId,
      source.kind,
      source.name,
      now,
    ],
  );
/** A source that came from a depot and has never had a machine in this console. */
export const adoptedSource = (tx: Tx, clientId: ClientId, name: string) =>
  one<Source>(
    tx,
    `select ${SOURCE} from sources s where s.client_id = $1 and s.name = $2 and s.kind = 'files' and s.machine_id is null`,
    [clientId, name],
  );
export const giveMachine = (tx: Tx, id: string, machineId: MachineId) =>
  change(tx, "update sources set machine_id = $2 where id = $1 and machine_id is null", [id, machineId]);
export const sourcesOfConnection = (tx: Tx, connectionId: ConnectionId) =>
  all<Source>(tx, `select ${SOURCE} from sources s where s.connection_id = $1`, [connectionId]);
/** Whether there is still a way to a source: its machine or connection was not removed, and it was not deleted there. */
export const isReachable = async (tx: Tx, { id }: Pick<Source, "id">) =>
  (await one<{ reachable: boolean }>(tx, "select source_reachable($1) as reachable", [id]))!.reachable;
/** Sources of a kind that are reached over the network and were not removed: what a restore may go to. */
export const reachableSources = (tx: Tx, clientId: ClientId, kind: string) =>
  all<{ id: SourceId; name: string; connectionName: string }>(
    tx,
    `select s.id, s.name, cn.name as "connectionName" from sources s join connections cn on cn.id = s.connection_id
     where s.client_id = $1 and s.kind = $2 and s.vanished_at is null and cn.gone_at is null order by cn.name, s.name`,
    [clientId, kind],
  );
/** A name that no source of the client has: the wish, or the wish with a number. */
export async function freeSourceName(tx: Tx, clientId: ClientId, wish: string): Promise<string> {
  const taken = await all<{ name: string }>(tx, "select name from sources where client_id = $1", [clientId]);
  const names = new Set(taken.map((source) => source.name));
  let name = wish;
  for (let number = 2; names.has(name); number += 1) name = `${wish} ${number}`;
  return name;
}

export const assignPolicy = (tx: Tx, id: string, policyId: PolicyId | null) =>
  change(tx, "update sources set policy_id = $2 where id = $1", [id, policyId]);
export const setTags = (tx: Tx, id: string, tags: readonly string[]) =>
  change(tx, "update sources set tags = $2 where id = $1", [id, tags]);
/** Notes what is in force for a source, and when it runs next. */
export const setRules = (
  tx: Tx,
  id: string,
  rules: Clauses | null,
  origins: InForce["origins"],
  nextDueAt: Date | null,
) =>
  change(tx, "update sources set rules = $2, origins = $3, next_due_at = $4 where id = $1", [
    id,
    rules && JSON.stringify(rules),
    JSON.stringify(origins),
    nextDueAt,
  ]);
/** Sources of a client with the system of their machine. */
export const sourcesOfClient = (tx: Tx, clientId: ClientId) =>
  all<Source & { system: string | null }>(
    tx,
    `select ${SOURCE}, m.system->>'system' as system from sources s left join machines m on m.id = s.machine_id
     where s.client_id = $1 order by s.name`,
    [clientId],
  );
/** Where the sources of a client stand among levels: what their rules come from. */
export type PlacedSource = Pick<Source, "id" | "kind" | "name" | "siteId" | "policyId">;
export const placedSources = (tx: Tx, clientId: ClientId) =>
  all<PlacedSource>(
    tx,
    `select id, kind, name, site_id as "siteId", policy_id as "policyId" from sources where client_id = $1 order by name`,
    [clientId],
  );
export const setNextDue = (tx: Tx, id: string, nextDueAt: Date | null, lastDueAt: Date | null = null) =>
  change(tx, "update sources set next_due_at = $2, last_due_at = coalesce($3, last_due_at) where id = $1", [
    id,
    nextDueAt,
    lastDueAt,
  ]);
export const setPaused = (tx: Tx, id: string, paused: boolean) =>
  change(tx, "update sources set paused = $2 where id = $1", [id, paused]);

/** A source whose run may have to be made, with what decides it. */
export interface DueSource {
  readonly id: string;
  readonly clientId: ClientId;
  readonly machineId: MachineId | null;
  readonly rules: Clauses;
  readonly zone: string;
  readonly nextDueAt: Date;
  readonly lastDueAt: Date | null;
  /** Its machine or connection was not taken away, and the far end still has it. */
  readonly reachable: boolean;
  readonly keyUsable: boolean;
  /** A backup that queued already. */
  readonly waitingRun: string | null;
  readonly waitingCause: string | null;
  /** All depots that its runs may go to are away by plan. */
  readonly depotsAway: boolean;
}
const DUE = `s.id, s.client_id as "clientId", s.machine_id as "machineId", s.rules, c.zone, s.next_due_at as "nextDueAt", s.last_due_at as "lastDueAt",
  s.vanished_at is null and (s.machine_id is not null or s.connection_id is not null) and m.gone_at is null and cn.gone_at is null as reachable,
  k.confirmed_at is not null and k.destroyed_at is null as "keyUsable"`;
const DUE_FROM = `sources s join clients c on c.id = s.client_id left join client_keys k on k.client_id = s.client_id
  left join machines m on m.id = s.machine_id left join connections cn on cn.id = s.connection_id`;

/** Sources whose time has come, locked so that two tickers do not both take one. */
export const dueSources = (tx: Tx, now: Date) =>
  all<DueSource>(
    tx,
    `select ${DUE}, w.id as "waitingRun", w.cause as "waitingCause",
       w.id is not null and not exists (select from run_depots_of(s.rules->'where') d(id)
         where not exists (select from absences a where a.depot_id = d.id and a.from_at <= $1 and a.to_at > $1)) as "depotsAway"
     from ${DUE_FROM}
     left join lateral (select id, cause from runs where source_id = s.id and kind = 'backup' and state = 'due' order by due_at limit 1) w on true
     where s.next_due_at <= $1 and not s.paused and s.rules is not null order by s.next_due_at limit 1000 for update of s skip locked`,
    [now],
  );

/** Notes for many sources when they run next, and for which time they were taken. */
export const setNextDues = (
  tx: Tx,
  dues: readonly { readonly id: string; readonly nextDueAt: Date | null; readonly lastDueAt: Date }[],
) =>
  change(
    tx,
    `update sources s set next_due_at = d.next, last_due_at = d.last
     from unnest($1::uuid[], $2::timestamptz[], $3::timestamptz[]) d(id, next, last) where s.id = d.id`,
    [dues.map((one) => one.id), dues.map((one) => one.nextDueAt), dues.map((one) => one.lastDueAt)],
  );

/** One whose policy follows another one, and when the last run of that one's sources ended. */
export interface FollowingSource extends DueSource {
  readonly ledUntil: Date;
}

/**
 * Sources whose policy follows another one, since whose last runs have all ended theirs has not run. What is followed is looked
 * at once for all that follow it, and of each of its sources the newest run.
 */
export const sourcesAfter = (tx: Tx) =>
  all<FollowingSource>(
    tx,
    `with followed as materialized (
       select p.id, (select max(last.ended_at) from sources f
           cross join lateral (select r.ended_at from runs r where r.source_id = f.id and r.kind = 'backup' and r.state = 'ended'
             and r.outcome <> 'stopped' and r.outcome in ('clean', 'caution', 'failed') order by r.due_at desc limit 1) last
         where f.policy_id = p.id) as until
       from (select distinct (rules->'when'->>'after')::uuid as id from sources where rules->'when'->>'after' is not null) p
       where not exists (select from sources f join runs r on r.source_id = f.id and r.kind = 'backup' and r.state <> 'ended'
         where f.policy_id = p.id))
     select ${DUE}, null as "waitingRun", null as "waitingCause", false as "depotsAway", followed.until as "ledUntil" from ${DUE_FROM}
     join followed on followed.id = (s.rules->'when'->>'after')::uuid
     where s.rules->'when'->>'after' is not null and not s.paused
       and not exists (select from runs r where r.source_id = s.id and r.kind = 'backup' and r.state <> 'ended')
       and followed.until > coalesce((select max(o.due_at) from runs o where o.source_id = s.id and o.kind = 'backup'), s.created_at)
     for update of s skip locked`,
  );

/** A source with all that its state is told from. */
export interface SourceStanding extends Omit<Source, "rules" | "origins"> {
  readonly clientName: string;
  readonly clientSlug: string;
  readonly clientZone: string;
  readonly siteName: string;
  readonly siteSlug: string;
  readonly policyName: string | null;
  readonly policyChanged: Date | null;
  readonly targetHours: number | null;
  readonly depotId: DepotId | null;
  readonly depotName: string | null;
  /** Until when the depot is away by plan. */
  readonly depotAwayUntil: Date | null;
  readonly machineName: string | null;
  readonly machineSeen: Date | null;
  readonly connectionName: string | null;
  /** The machine or the connection was removed, or the far end has it no more. */
  readonly gone: boolean;
  readonly keyConfirmed: boolean;
  readonly keyHolding: "escrow" | "passphrase" | null;
  readonly keyDestroyed: Date | null;
  readonly newestPoint: Date | null;
  readonly points: number;
  readonly bytes: number;
  readonly files: number;
  readonly addedPerDay: number;
  readonly lastRunId: string | null;
  readonly lastRunEnded: Date | null;
  readonly lastOutcome: Outcome | null;
  readonly lastCode: Code | null;
  readonly state: ProtectionState;
  /** Evidence of an alarm that nobody has looked into yet, and the hold that it placed. */
  readonly burst: BurstEvidence | null;
  readonly burstHoldId: string | null;
}

export interface StandingFilter {
  readonly clientId?: ClientId | null;
  readonly siteId?: SiteId | null;
  readonly sourceId?: SourceId | null;
}
export const scopeValues = (filter: StandingFilter) => [
  filter.clientId ?? null,
  filter.siteId ?? null,
  filter.sourceId ?? null,
];
export const IN_SUMMARIES =
  "($1::uuid is null or u.client_id = $1) and ($2::uuid is null or u.site_id = $2) and ($3::uuid is null or u.source_id = $3)";
const IN_SCOPE =
  "($1::uuid is null or s.client_id = $1) and ($2::uuid is null or s.site_id = $2) and ($3::uuid is null or s.id = $3)";

/** The rules in force for each source in scope, and where each clause comes from. */
export const rulesInForce = async (tx: Tx, filter: StandingFilter) =>
  new Map(
    (
      await all<Pick<Source, "id" | "rules" | "origins">>(
        tx,
        `select s.id, s.rules, s.origins from sources s
         where ${IN_SCOPE}`,
        scopeValues(filter),
      )
    ).map(({ id, ...rest }) => [id, rest]),
  );

// without the rules: they are most of a row, and told of one source at a time
const STANDING_SOURCE = SOURCE.replace(" s.rules, s.origins,", "");
export const STATE =
  "protection_state(u.newest_point, u.slips_at, u.exposed_at, u.last_outcome, u.paused or u.gone, u.alarm, $4)";
export const KEY_GOOD = "coalesce(k.confirmed_at is not null and k.destroyed_at is null, false)";
const ALARMS = `(select distinct on (source_id) source_id, id, evidence from holds where lifted_at is null and evidence is not null
       order by source_id, placed_at desc)`;
const STANDING = `select ${STANDING_SOURCE}, c.name as "clientName", c.slug as "clientSlug", c.zone as "clientZone", si.name as "siteName", si.slug as "siteSlug",
       p.name as "policyName", p.changed_at as "policyChanged", s.target_hours as "targetHours", s.depot_id as "depotId", d.name as "depotName",
       away.until as "depotAwayUntil", m.name as "machineName", m.seen_at as "machineSeen", cn.name as "connectionName", u.gone,
       ${KEY_GOOD} as "keyConfirmed", k.holding as "keyHolding", k.destroyed_at as "keyDestroyed",
       u.newest_point as "newestPoint", u.bytes, u.files, u.points, u.added_per_day as "addedPerDay",
       u.last_run_id as "lastRunId", u.last_run_ended as "lastRunEnded", u.last_outcome as "lastOutcome", u.last_code as "lastCode",
       alarm.evidence as burst, alarm.id as "burstHoldId", ${STATE} as state
     from sources s
     join source_summaries u on u.source_id = s.id
     join clients c on c.id = s.client_id
     join sites si on si.id = s.site_id
     left join machines m on m.id = s.machine_id
     left join connections cn on cn.id = s.connection_id
     left join policies p on p.id = s.policy_id
     left join depots d on d.id = s.depot_id
     left join client_keys k on k.client_id = s.client_id
     left join ${ALARMS} alarm on alarm.source_id = s.id
     left join (select depot_id, max(to_at) as until from absences where from_at <= $4 and to_at > $4 group by depot_id) away on away.depot_id = d.id`;
const IN_ORDER = "order by c.name, si.name, s.name";

/** Sources in scope with newest point, last run and policy, and their state. */
export const sourceStandings = (tx: Tx, filter: StandingFilter, now: Date) =>
  all<SourceStanding>(tx, `${STANDING} where ${IN_SCOPE} ${IN_ORDER}`, [...scopeValues(filter), now]);
/** The same of these sources alone. */
export const standingsOf = (tx: Tx, ids: readonly string[], now: Date) =>
  allPlanned<SourceStanding>(
    tx,
    "standings of ids",
    `${STANDING.replaceAll("$4", "$1")} where s.id = any($2) ${IN_ORDER}`,
    [now, ids],
  );

/**
 * A page of them, and how many there are in all: those that every word of a text fits, in name, client, site, policy or
 * state.
 */
export const standingsPage = (tx: Tx, filter: StandingFilter, now: Date, text: string, limit: number) => {
  const words = text.toLowerCase().split(/\s+/).filter(Boolean).slice(0, 6);
  return words.length
    ? searchStandings(tx, filter, now, words, limit)
    : firstStandings(tx, filter, now, limit);
};
export interface StandingsPage {
  readonly sources: readonly SourceStanding[];
  readonly fitting: number;
}

/** The first of them, from as many sites as it takes: the others are counted, not read. */
async function firstStandings(
  tx: Tx,
  filter: StandingFilter,
  now: Date,
  limit: number,
): Promise<StandingsPage> {
  const sites = await all<{ id: string; sources: number }>(
    tx,
    `select n.site_id as id, n.sources from (select u.site_id, count(*)::int as sources from source_summaries u where ${IN_SUMMARIES} group by 1) n
     join sites si on si.id = n.site_id join clients c on c.id = si.client_id order by c.name, si.name`,
    scopeValues(filter),
  );
  const chosen: string[] = [];
  let held = 0;
  for (const site of sites) {
    if (held >= limit) break;
    chosen.push(site.id);
    held += site.sources;
  }
  // which they are first: of their standings, the plan takes longer to make than to follow, and is made once for any ids
  const first = await all<{ id: string }>(
    tx,
    `select s.id from sources s where ${IN_SCOPE} and s.site_id = any($4) order by array_position($4, s.site_id), s.name limit ${limit}`,
    [...scopeValues(filter), chosen],
  );
  const sources = await standingsOf(
    tx,
    first.map(({ id }) => id),
    now,
  );
  return { sources, fitting: sites.reduce((sum, site) => sum + site.sources, 0) };
}

async function searchStandings(
  tx: Tx,
  filter: StandingFilter,
  now: Date,
  words: readonly string[],
  limit: number,
): Promise<StandingsPage> {
  const values: unknown[] = [...scopeValues(filter), now];
  let summaries = "";
  const fits = words.map((word) => {
    values.push(`%${word.replace(/[\\%_]/g, "\\$&")}%`);
    const like = `ilike $${values.length}`;
    const states = STATES.filter((state) => state.includes(word));
    if (states.length) {
      values.push(states);
      summaries = "join source_summaries u on u.source_id = s.id";
    }
    return `and (s.name ${like} or s.site_id in (select si.id from sites si join clients c on c.id = si.client_id where si.name ${like} or c.name ${like})
      or s.policy_id in (select id from policies where name ${like}) ${states.length ? `or ${STATE} = any($${values.length})` : ""})`;
  });
  const rows = await all<{ id: string; fitting: number }>(
    tx,
    `with fitting as materialized (select s.id, s.site_id, s.name from sources s ${summaries}
       where ${IN_SCOPE} and $4::timestamptz is not null ${fits.join(" ")}),
     places as (select si.id, row_number() over (order by c.name, si.name) as place from sites si join clients c on c.id = si.client_id)
     select f.id, (select count(*)::int from fitting) as fitting from fitting f join places p on p.id = f.site_id
     order by p.place, f.name limit ${limit}`,
    values,
  );
  const sources = await standingsOf(
    tx,
    rows.map((row) => row.id),
    now,
  );
  return { sources, fitting: rows[0]?.fitting ?? 0 };
}

export interface StateCounts {
  readonly clientId: ClientId;
  readonly clientName: string;
  readonly clientSlug: string;
  readonly counts: Readonly<Record<ProtectionState, number>>;
}
/**
 * How many sources of each client in scope are in which state; clients without any are left out. Most are kept, and those
 * are what remains of all: only the others are looked at one by one.
 */
export const stateCounts = (tx: Tx, filter: StandingFilter, now: Date) =>
  allPlanned<StateCounts>(
    tx,
    "counts by state",
    `with others as (select client_id, ${OTHERS.map((state) => `count(*) filter (where state = '${state}') as "${state}"`).join(", ")}
       from (select u.client_id, ${STATE} as state from source_summaries u where ${IN_SUMMARIES} and ${NOT_WELL}
         union all
         select u.client_id, ${STATE} from source_summaries u where ${IN_SUMMARIES} and u.slips_at < $4 and ${NOT_WELL} is not true) u group by 1)
     select n.client_id as "clientId", c.name as "clientName", c.slug as "clientSlug",
       json_build_object('kept', n.sources - ${OTHERS.map((state) => `coalesce(o."${state}", 0)`).join(" - ")},
         ${OTHERS.map((state) => `'${state}', coalesce(o."${state}", 0)`).join(", ")}) as counts
     from (select u.client_id, count(*) as sources from source_summaries u where ${IN_SUMMARIES} group by 1) n
     join clients c on c.id = n.client_id left join others o on o.client_id = n.client_id order by c.name`,
    [...scopeValues(filter), now],
  );
const OTHERS = STATES.filter((state) => state !== "kept");
/** Not kept, whatever the hour; the predicate of an index (migration 0026). */
const NOT_WELL = "(u.paused or u.gone or u.newest_point is null or u.last_outcome in ('failed', 'caution'))";

/** Names of a client's sources, or of those at one of its sites. */
export const sourceNames = (tx: Tx, clientId: ClientId, siteId: SiteId | null = null) =>
  all<{ id: string; kind: SourceKind; name: string }>(
    tx,
    "select id, kind, name from sources where client_id = $1 and ($2::uuid is null or site_id = $2) order by name",
    [clientId, siteId],
  );
export const countUnassigned = async (tx: Tx, clientId: ClientId | null): Promise<number> =>
  (await one<{ count: number }>(
    tx,
    "select count(*)::int as count from sources where policy_id is null and ($1::uuid is null or client_id = $1)",
    [clientId],
  ))!.count;

/** A source with the time of its next run. */
export interface ComingRun {
  readonly id: string;
  readonly name: string;
  readonly client: string;
  readonly at: Date;
}
/** The next runs by schedule, the earliest first, of sources that are there. */
export const comingRuns = (tx: Tx, filter: StandingFilter, most: number) =>
  all<ComingRun>(
    tx,
    // the first of the index, so that the others are not looked at
    `select s.id, s.name, c.name as client, s.next_due_at as at
     from (select id, name, client_id, machine_id, connection_id, next_due_at from sources
       where next_due_at is not null and not paused and vanished_at is null
         and ($1::uuid is null or client_id = $1) and ($2::uuid is null or site_id = $2) and ($3::uuid is null or id = $3)
       order by next_due_at limit 10 * $4::int) s
     join clients c on c.id = s.client_id
     left join machines m on m.id = s.machine_id left join connections cn on cn.id = s.connection_id
     where m.gone_at is null and cn.gone_at is null order by s.next_due_at limit $4`,
    [filter.clientId ?? null, filter.siteId ?? null, filter.sourceId ?? null, most],
  );
