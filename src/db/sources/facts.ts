import type { SourceFacts } from "@/core/consequences/facts";
import type { ClientId, PolicyId, SiteId, SourceId } from "@/core/ids";
import type { Level } from "@/core/policy/cascade";
import type { Clauses } from "@/core/policy/clauses";
import { all, allPlanned, change, type Tx } from "../base/scope";
import type { StandingFilter } from "./sources";

/** What is known of the sources that rules of a level touch; none for a policy that is not made yet. */
export const factsOfSources = (
  tx: Tx,
  level: Level,
  owner: {
    readonly policyId: PolicyId | null;
    readonly clientId: ClientId | null;
    readonly siteId: SiteId | null;
    readonly sourceId: SourceId | null;
  },
) =>
  all<SourceFacts>(
    tx,
    `select s.id, s.name, u.bytes, u.points, u.oldest_point as oldest, u.stored_bytes as "storedBytes", u.added_mean as "addedMean", u.added_spread as "addedSpread",
       u.added_weekend as "addedWeekend", u.added_monday as "addedMonday", u.grown_per_day as "grownPerDay", u.usual_minutes as "usualMinutes", u.long_minutes as "longMinutes",
       first.rate as "readRate", m.system->'workFolder' as "workFolder"
     from sources s join source_summaries u on u.source_id = s.id left join machines m on m.id = s.machine_id
     left join lateral (select (figures->>'bytesRead')::float8 / nullif(extract(epoch from ended_at - started_at), 0)::float8 as rate from runs
       where source_id = s.id and kind = 'backup' and state = 'ended' and outcome in ('clean', 'caution') order by due_at limit 1) first on true
     where case $1::text when 'provider' then s.policy_id is not null when 'client' then s.client_id = $3 when 'site' then s.site_id = $4
       when 'group' then s.policy_id = $2 else s.id = $5 end`,
    [level, owner.policyId, owner.clientId, owner.siteId, owner.sourceId],
  );

/** Advice that somebody decided to live with. */
export interface SetAsideAdvice {
  readonly policyId: PolicyId;
  readonly advice: string;
  readonly reason: string;
  readonly setBy: string;
  readonly setAt: Date;
}
export const adviceSetAside = (tx: Tx, policyId: PolicyId) =>
  allPlanned<SetAsideAdvice>(
    tx,
    "advice set aside",
    `select policy_id as "policyId", advice, reason, set_by as "setBy", set_at as "setAt" from advice_set_aside where policy_id = $1`,
    [policyId],
  );
export const dismissAdvice = (tx: Tx, one: SetAsideAdvice, clientId: ClientId | null) =>
  change(
    tx,
    `insert into advice_set_aside (policy_id, client_id, advice, reason, set_by, set_at) values ($1, $2, $3, $4, $5, $6)
     on conflict (policy_id, advice) do update set reason = $4, set_by = $5, set_at = $6`,
    [one.policyId, clientId, one.advice, one.reason, one.setBy, one.setAt],
  );
export const restoreAdvice = (tx: Tx, policyId: PolicyId, advice: string) =>
  change(tx, "delete from advice_set_aside where policy_id = $1 and advice = $2", [policyId, advice]);

/** Sources that run alike: one policy, and the same schedules in force. */
export interface LoadRow {
  /** The policy's id, where it gives When itself; otherwise a name of its own for each set of rules. */
  readonly key: string;
  readonly policyId: PolicyId;
  readonly policyName: string;
  readonly clientName: string;
  readonly zone: string;
  readonly rules: Clauses;
  readonly ownWhen: boolean;
  readonly sources: number;
  readonly minutes: number | null;
  readonly bytes: number | null;
}
export const loadRows = (tx: Tx, filter: StandingFilter) =>
  all<LoadRow>(
    tx,
    `select case when g.own then g.policy_id::text else g.policy_id || ' ' || g.load_key end as key,
       g.policy_id as "policyId", p.name as "policyName", c.name as "clientName", c.zone, one.rules, g.own as "ownWhen", g.sources, g.minutes, g.bytes
     from (select s.policy_id, s.client_id, s.load_key, bool_and(s.own_when) as own, (array_agg(s.id))[1] as one, count(*)::int as sources,
         max(u.usual_minutes) as minutes, sum(u.added_mean) as bytes
       from sources s join source_summaries u on u.source_id = s.id
       where s.rules is not null and not s.paused and s.next_due_at is not null and s.policy_id is not null
         and ($1::uuid is null or s.client_id = $1) and ($2::uuid is null or s.site_id = $2) and ($3::uuid is null or s.id = $3)
       group by s.policy_id, s.client_id, s.load_key) g
     join policies p on p.id = g.policy_id join clients c on c.id = g.client_id join sources one on one.id = g.one
     order by c.name, p.name`,
    [filter.clientId ?? null, filter.siteId ?? null, filter.sourceId ?? null],
  );
