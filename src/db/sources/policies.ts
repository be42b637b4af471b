import type { ClientId, PolicyId, SiteId, SourceId } from "@/core/ids";
import type { ClauseName, GroupRule, Layer, Level } from "@/core/policy/cascade";
import type { Clauses } from "@/core/policy/clauses";
import { all, change, onePlanned, type Tx } from "../base/scope";

/** The rules of one level. A group is what people call a policy: sources are assigned to it. */
export interface Policy extends Layer {
  /** Null for the provider's own. */
  readonly clientId: ClientId | null;
  readonly siteId: SiteId | null;
  readonly sourceId: SourceId | null;
  readonly rule: GroupRule | null;
  readonly revision: number;
  readonly changedAt: Date;
  readonly changedBy: string;
}

const POLICY = `p.id, p.client_id as "clientId", p.site_id as "siteId", p.source_id as "sourceId", p.level, p.name, p.clauses, p.pins, p.rule,
  p.revision, p.changed_at as "changedAt", p.changed_by as "changedBy"`;

/** Groups, of one client or of all. */
export const listPolicies = (tx: Tx, clientId: ClientId | null = null) =>
  all<Policy & { clientId: ClientId; sources: number }>(
    tx,
    `select ${POLICY}, (select count(*) from sources s where s.policy_id = p.id) as sources
     from policies p where p.level = 'group' and ($1::uuid is null or p.client_id = $1) order by p.name`,
    [clientId],
  );
export const policyById = (tx: Tx, id: PolicyId) =>
  onePlanned<Policy>(tx, "policy by id", `select ${POLICY} from policies p where p.id = $1`, [id]);

/** Everything that may be in force for sources of a client: the provider's rules and all of the client's. */
export const layersOfClient = (tx: Tx, clientId: ClientId) =>
  all<Policy>(tx, `select ${POLICY} from policies p where p.client_id is null or p.client_id = $1`, [
    clientId,
  ]);

/** Which level of whose rules. */
export interface Owner {
  readonly level: Exclude<Level, "group">;
  readonly clientId: ClientId | null;
  readonly siteId: SiteId | null;
  readonly sourceId: SourceId | null;
}
export const policyOfOwner = (tx: Tx, owner: Owner) =>
  onePlanned<Policy>(
    tx,
    "policy of owner",
    `select ${POLICY} from policies p where p.level = $1 and p.client_id is not distinct from $2
       and p.site_id is not distinct from $3 and p.source_id is not distinct from $4`,
    [owner.level, owner.clientId, owner.siteId, owner.sourceId],
  );

/** Inserts or replaces rules and keeps the revision for their history. */
export async function savePolicy(tx: Tx, policy: Policy, reason: string | null = null): Promise<void> {
  const clauses = JSON.stringify(policy.clauses);
  const rule = policy.rule && JSON.stringify(policy.rule);
  await change(
    tx,
    `insert into policies (id, client_id, site_id, source_id, level, name, clauses, pins, rule, revision, changed_at, changed_by)
     values ($1, $2, $3, $4, $5, $6, $7, $8, $9, $10, $11, $12)
     on conflict (id) do update set name = excluded.name, clauses = excluded.clauses, pins = excluded.pins, rule = excluded.rule,
       revision = excluded.revision, changed_at = excluded.changed_at, changed_by = excluded.changed_by`,
    [
      policy.id,
      policy.clientId,
      policy.siteId,
      policy.sourceId,
      policy.level,
      policy.name,
      clauses,
      policy.pins,
      rule,
      policy.revision,
      policy.changedAt,
      policy.changedBy,
    ],
  );
  await change(
    tx,
    `insert into policy_revisions (policy_id, client_id, revision, name, clauses, pins, rule, reason, changed_at, changed_by)
     values ($1, $2, $3, $4, $5, $6, $7, $8, $9, $10)`,
    [
      policy.id,
      policy.clientId,
      policy.revision,
      policy.name,
      clauses,
      policy.pins,
      rule,
      reason,
      policy.changedAt,
      policy.changedBy,
    ],
  );
}

/** An earlier state of rules. */
export interface Revision {
  readonly revision: number;
  readonly name: string;
  readonly clauses: Partial<Clauses>;
  readonly pins: readonly ClauseName[];
  readonly rule: GroupRule | null;
  readonly reason: string | null;
  readonly changedAt: Date;
  readonly changedBy: string;
}
/** All revisions of rules, newest first. */
export const revisionsOf = (tx: Tx, policyId: PolicyId) =>
  all<Revision>(
    tx,
    `select revision, name, clauses, pins, rule, reason, changed_at as "changedAt", changed_by as "changedBy"
     from policy_revisions where policy_id = $1 order by revision desc`,
    [policyId],
  );
