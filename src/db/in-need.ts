import type { Code } from "@/core/codes";
import type { SourceFacts } from "@/core/protection/causes";
import type { ProtectionState } from "@/core/protection/state";
import { allPlanned, allPlannedOnce, type Tx } from "./scope";
import { IN_SUMMARIES, KEY_GOOD, STATE, type StandingFilter, scopeValues } from "./sources";

/** Watch's question: which sources somebody may have to look at, and what is known of them. */

/** Which ones, besides those whose own state says so. */
export interface AlsoWanted {
  /** Machines that have not spoken since count as silent. */
  readonly silentSince: Date;
  /** Sources by themselves. */
  readonly sourceIds: readonly string[];
  /** All sources of these depots; with a client, that client's alone. */
  readonly depots: readonly { readonly depotId: string; readonly clientId: string | null }[];
}

/** In trouble by what stands in its summary; the predicate of an index (migration 0022). */
const TROUBLED = "(u.last_outcome in ('failed', 'caution') or u.gone or u.policy_id is null)";

/**
 * Sources in scope that may have a cause to be told of, by client and name: every other one is well, or paused by somebody.
 * What clients are called is handed in; one that is not among them is left out.
 */
export async function sourcesInNeed(
  tx: Tx,
  filter: StandingFilter,
  now: Date,
  also: AlsoWanted,
  clientNames: ReadonlyMap<string, string>,
): Promise<SourceFacts[]> {
  const around = await readAround(tx, now, also.silentSince);
  // their columns as one text: to read a thousand rows value by value takes longer than to find them
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
     select string_agg(concat(${Object.values(IN_LINE).join(", chr(31), ")}), chr(30)) as lines,
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
      [...also.sourceIds, ...around.bursts.keys()],
      also.depots.map((one) => one.depotId),
      also.depots.map((one) => one.clientId),
      [...clientNames.keys()].filter((id) => !around.goodKeys.has(id)),
      [...around.silent.keys()],
    ],
  );
  const { lines, machineId, connectionId, gone } = found!;
  const facts: SourceFacts[] = [];
  for (const line of lines?.split("\x1e") ?? []) {
    const column = line.split("\x1f");
    const told = (name: keyof typeof IN_LINE): string => column[PLACE_IN_LINE[name]]!;
    const id = told("id");
    const site = around.sites.get(told("siteId"));
    const clientName = clientNames.get(site?.clientId ?? "");
    if (!site || clientName === undefined) continue;
    const policy = around.policies.get(told("policyId"));
    const depot = around.depots.get(told("depotId"));
    // written out: whole objects of one shape, or a thousand of them take longer than the question
    facts.push({
      id,
      name: told("name"),
      clientId: site.clientId,
      clientName,
      siteId: site.id,
      siteName: site.name,
      silent: around.silent.get(machineId?.[id] ?? "") ?? null,
      connectionId: connectionId?.[id] ?? null,
      connectionName: around.connections.get(connectionId?.[id] ?? "") ?? null,
      hasPolicy: told("policyId") !== "",
      policyId: told("policyId") || null,
      policyName: policy?.name ?? null,
      policyChanged: policy?.changed ?? null,
      depotId: told("depotId") || null,
      depotName: depot?.name ?? null,
      depotAwayUntil: depot?.away ?? null,
      keyConfirmed: around.goodKeys.has(site.clientId),
      gone: gone?.[id] ?? false,
      targetHours: told("targetHours") ? Number(told("targetHours")) : null,
      newestPoint: told("newestPoint") ? new Date(Number(told("newestPoint"))) : null,
      lastRunEnded: told("lastRunEnded") ? new Date(Number(told("lastRunEnded"))) : null,
      lastOutcome: told("lastOutcome") || null,
      lastCode: (told("lastCode") as Code) || null,
      state: told("state") as ProtectionState,
      burst: around.bursts.get(id) ?? null,
    });
  }
  return facts.sort((a, b) =>
    a.clientName < b.clientName ? -1 : a.clientName > b.clientName ? 1 : a.name < b.name ? -1 : 1,
  );
}

const millis = (column: string) => `(date_part('epoch', ${column}) * 1000)::bigint`;
/** What is read of each of them, and where it stands; moments as milliseconds, what there is not as nothing. */
const IN_LINE = {
  id: "u.source_id",
  // no name parts columns or lines
  name: "translate(u.name, chr(30) || chr(31), '  ')",
  siteId: "u.site_id",
  policyId: "u.policy_id",
  depotId: "u.depot_id",
  targetHours: "u.target_hours",
  newestPoint: millis("u.newest_point"),
  lastRunEnded: millis("u.last_run_ended"),
  lastOutcome: "u.last_outcome",
  lastCode: "u.last_code",
  state: STATE,
} satisfies Partial<Record<keyof SourceFacts, string>>;
const PLACE_IN_LINE = Object.fromEntries(Object.keys(IN_LINE).map((name, i) => [name, i])) as Record<
  keyof typeof IN_LINE,
  number
>;
/** What few of them have. */
const SELDOM = {
  // of silent machines alone
  machineId: "case when u.machine_id = any($9) then u.machine_id end",
  connectionId: "u.connection_id",
  gone: "nullif(u.gone, false)",
};
interface InNeed {
  readonly lines: string | null;
  readonly machineId: Readonly<Record<string, string>> | null;
  readonly connectionId: Readonly<Record<string, string>> | null;
  readonly gone: Readonly<Record<string, true>> | null;
}

interface Named {
  readonly id: string;
  readonly name: string;
}
/**
 * What is told beside sources, once for each: sites, policies, depots, connections, machines that are silent, alarms, and
 * whose key can be used.
 */
async function readAround(tx: Tx, now: Date, silentSince: Date) {
  const [answer] = await allPlannedOnce<{
    found: {
      sites: (Named & { clientId: string })[];
      connections: Named[];
      policies: (Named & { changed: number })[];
      depots: (Named & { away: number | null })[];
      keys: string[];
      silent: (Named & { seen: number | null })[];
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
    // of several alarms of one source the newest
    bursts: new Map(found.alarms.map(({ id, burst }) => [id, burst])),
    goodKeys: new Set(found.keys),
  };
}
