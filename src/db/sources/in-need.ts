import type { Code } from "@/core/codes";
import type { ClientId, DepotId } from "@/core/ids";
import type { SourceFacts } from "@/core/protection/causes";
import type { ProtectionState } from "@/core/protection/state";
import { allPlanned, allPlannedOnce, type Tx } from "../base/scope";
import { IN_SUMMARIES, KEY_GOOD, STATE, type StandingFilter, scopeValues } from "./sources";

/** Watch's question: which sources somebody may have to look at, and what is known of them. */

/** Which ones, besides those whose own state says so. */
export interface AlsoWanted {
  /** Machines that have not spoken since count as silent. */
  readonly silentSince: Date;
  /** Sources by themselves. */
  readonly sourceIds: readonly string[];
  /** All sources of these depots; with a client, that client's alone. */
  readonly depots: readonly { readonly depotId: DepotId; readonly clientId: ClientId | null }[];
}

/** In trouble by what stands in its summary; the predicate of an index (migration 0022). */
const TROUBLED = "(u.last_outcome in ('failed', 'caution') or u.gone or u.policy_id is null)";

/** Without a next run although a policy protects it, and not run by hand or after others alone; an index has this predicate (migration 0038). */
const UNSCHEDULED =
  "s.next_due_at is null and s.policy_id is not null and (s.rules is null or jsonb_array_length(s.rules->'when'->'schedules') > 0)";

/** What was read of sources in need, not taken apart yet. */
export interface ReadInNeed {
  readonly found: InNeed;
  readonly around: Around;
  readonly clientNames: ReadonlyMap<string, string>;
}

/**
 * Asks for sources in scope that may have a cause to be told of: every other one is well, or paused by somebody. What clients
 * are called is handed in, in their order; one that is not among them is left out.
 */
export async function readInNeed(
  tx: Tx,
  filter: StandingFilter,
  now: Date,
  also: AlsoWanted,
  clientNames: ReadonlyMap<string, string>,
): Promise<ReadInNeed> {
  const around = await readAround(tx, now, also.silentSince);
  // all their columns as one text: to read a thousand rows value by value takes longer than to find them
  const [found] = await allPlanned<InNeed>(
    tx,
    "sources in need",
    `with others as materialized (
       select u.source_id as id from source_summaries u where ${IN_SUMMARIES} and u.slips_at < $4
       union select u.source_id from source_summaries u where ${IN_SUMMARIES} and u.client_id = any($8)
       union select u.source_id from unnest($6::uuid[], $7::uuid[]) w(depot_id, client_id)
         join source_summaries u on u.depot_id = w.depot_id and (w.client_id is null or u.client_id = w.client_id) where ${IN_SUMMARIES}
       union select u.source_id from source_summaries u where ${IN_SUMMARIES} and u.machine_id = any($9)
       union select unnest($5::uuid[]))
     select string_agg(concat(${COLUMNS.join(", chr(31), ")}), chr(31)) as texts,
       ${Object.entries(SELDOM)
         .map(
           ([name, column]) =>
             `json_object_agg(u.source_id, ${column}) filter (where ${column} is not null) as "${name}"`,
         )
         .join(", ")}
     from (select * from source_summaries u where ${TROUBLED} and ${IN_SUMMARIES}
       union all select * from source_summaries u where u.source_id = any(array(select id from others)) and ${TROUBLED} is not true
         and ${IN_SUMMARIES}) u`,
    [
      ...scopeValues(filter),
      now,
      [...also.sourceIds, ...around.bursts.keys(), ...around.unscheduled.keys()],
      also.depots.map((one) => one.depotId),
      also.depots.map((one) => one.clientId),
      [...clientNames.keys()].filter((id) => !around.goodKeys.has(id)),
      [...around.silent.keys()],
    ],
  );
  return { found: found!, around, clientNames };
}

/** The sources that were read, by client and name. */
export function sourcesInNeed({ found, around, clientNames }: ReadInNeed): SourceFacts[] {
  const { machineId, connectionId, gone } = found;
  const texts = found.texts?.split("\x1f") ?? [];
  const ofClient = new Map<string, SourceFacts[]>([...clientNames.keys()].map((id) => [id, []]));
  for (let at = 0; at < texts.length; at += COLUMNS.length) {
    const text = (column: number) => texts[at + column]!;
    const site = around.sites.get(text(SITE));
    const clientName = clientNames.get(site?.clientId ?? "");
    if (!site || clientName === undefined) continue;
    const id = text(ID);
    const policyId = text(POLICY) || null;
    const depotId = text(DEPOT) || null;
    const policy = policyId === null ? undefined : around.policies.get(policyId);
    const depot = depotId === null ? undefined : around.depots.get(depotId);
    const connection = connectionId?.[id] ?? null;
    // written out: whole objects of one shape, or a thousand of them take longer than the question
    ofClient.get(site.clientId)!.push({
      id,
      name: text(NAME),
      clientId: site.clientId,
      clientName,
      siteId: site.id,
      siteName: site.name,
      silent: (machineId?.[id] && around.silent.get(machineId[id])) || null,
      connectionId: connection,
      connectionName: connection === null ? null : (around.connections.get(connection) ?? null),
      hasPolicy: policyId !== null,
      unscheduled: around.unscheduled.get(id) ?? null,
      policyId,
      policyName: policy?.name ?? null,
      policyChanged: policy?.changed ?? null,
      depotId,
      depotName: depot?.name ?? null,
      depotAwayUntil: depot?.away ?? null,
      keyConfirmed: around.goodKeys.has(site.clientId),
      gone: gone?.[id] ?? false,
      targetHours: text(HOURS) ? Number(text(HOURS)) : null,
      newestPoint: text(NEWEST) ? new Date(Number(text(NEWEST))) : null,
      lastRunEnded: text(ENDED) ? new Date(Number(text(ENDED))) : null,
      lastOutcome: text(OUTCOME) || null,
      lastCode: (text(CODE) as Code) || null,
      state: text(STATE_NOW) as ProtectionState,
      burst: around.bursts.get(id) ?? null,
    });
  }
  return [...ofClient.values()].flatMap((facts) => facts.sort((a, b) => (a.name < b.name ? -1 : 1)));
}

const millis = (column: string) => `(date_part('epoch', ${column}) * 1000)::bigint`;
/** What is read of each of them, one after another; moments as milliseconds, what there is not as nothing. */
const COLUMNS = [
  "u.source_id",
  // no name parts columns
  "replace(u.name, chr(31), ' ')",
  "u.site_id",
  "u.policy_id",
  "u.depot_id",
  "u.target_hours",
  millis("u.newest_point"),
  millis("u.last_run_ended"),
  "u.last_outcome",
  "u.last_code",
  STATE,
];
const [ID, NAME, SITE, POLICY, DEPOT, HOURS, NEWEST, ENDED, OUTCOME, CODE, STATE_NOW] = [
  0, 1, 2, 3, 4, 5, 6, 7, 8, 9, 10,
] as const;
/** What few of them have. */
const SELDOM = {
  // of silent machines alone
  machineId: "case when u.machine_id = any($9) then u.machine_id end",
  connectionId: "u.connection_id",
  gone: "nullif(u.gone, false)",
};
interface InNeed {
  readonly texts: string | null;
  readonly machineId: Readonly<Record<string, string>> | null;
  readonly connectionId: Readonly<Record<string, string>> | null;
  readonly gone: Readonly<Record<string, true>> | null;
}

interface Named {
  readonly id: string;
  readonly name: string;
}
type Around = Awaited<ReturnType<typeof readAround>>;
/**
 * What is told beside sources, once for each: sites, policies, depots, connections, machines that are silent, alarms, and
 * whose key can be used.
 */
async function readAround(tx: Tx, now: Date, silentSince: Date) {
  const [answer] = await allPlannedOnce<{
    found: {
      sites: (Named & { clientId: ClientId })[];
      connections: Named[];
      policies: (Named & { changed: number })[];
      depots: (Named & { away: number | null })[];
      keys: string[];
      silent: (Named & { seen: number | null })[];
      unscheduled: { id: string; why: NonNullable<SourceFacts["unscheduled"]> }[];
      alarms: { id: string; burst: NonNullable<SourceFacts["burst"]> }[];
    };
  }>(
    tx,
    "around sources",
    `select json_build_object(
       'sites', (select coalesce(json_agg(json_build_object('id', id, 'name', name, 'clientId', client_id)), '[]') from sites),
       'connections', (select coalesce(json_agg(json_build_object('id', id, 'name', name)), '[]') from connections),
       'policies', (select coalesce(json_agg(json_build_object('id', id, 'name', name, 'changed', ${millis("changed_at")})), '[]') from policies),
       'depots', (select coalesce(json_agg(json_build_object('id', d.id, 'name', d.name, 'away', (select ${millis("max(to_at)")} from absences a
          where a.depot_id = d.id and from_at <= $1 and to_at > $1))), '[]') from depots d),
       'silent', (select coalesce(json_agg(json_build_object('id', m.id, 'name', m.name, 'seen', ${millis("m.seen_at")})), '[]') from machines m
          where m.gone_at is null and (m.seen_at is null or m.seen_at < $2)),
       'unscheduled', (select coalesce(json_agg(json_build_object('id', id, 'why', case when rules is null then 'rules-incomplete' else 'no-time-left' end)), '[]')
          from sources s where ${UNSCHEDULED}),
       'alarms', (select coalesce(json_agg(json_build_object('id', h.source_id, 'burst', h.evidence || jsonb_build_object('machineName', m.name))
            order by h.placed_at), '[]')
          from holds h join sources s on s.id = h.source_id left join machines m on m.id = s.machine_id
          where h.lifted_at is null and h.evidence is not null),
       'keys', (select coalesce(json_agg(k.client_id), '[]') from client_keys k where ${KEY_GOOD})) as found`,
    [now, silentSince],
  );
  const { found } = answer!;
  return {
    sites: new Map(found.sites.map((site) => [site.id, site])),
    connections: new Map(found.connections.map(({ id, name }) => [id, name])),
    policies: new Map(
      found.policies.map(({ id, name, changed }) => [id, { name, changed: new Date(changed) }]),
    ),
    depots: new Map(
      found.depots.map(({ id, name, away }) => [id, { name, away: away === null ? null : new Date(away) }]),
    ),
    silent: new Map(
      found.silent.map(({ id, name, seen }) => [
        id,
        { machineId: id, machineName: name, seen: seen === null ? null : new Date(seen) },
      ]),
    ),
    unscheduled: new Map(found.unscheduled.map(({ id, why }) => [id, why])),
    // of several alarms of one source the newest
    bursts: new Map(found.alarms.map(({ id, burst }) => [id, burst])),
    goodKeys: new Set(found.keys),
  };
}
