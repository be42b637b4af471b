import type { Clauses } from "@/core/policy/clauses";
import { all, change, one, type Tx } from "./scope";

export interface Policy {
  readonly id: string;
  readonly clientId: string;
  readonly name: string;
  readonly clauses: Clauses;
  readonly revision: number;
  readonly changedAt: Date;
  readonly changedBy: string;
}

const POLICY = `id, client_id as "clientId", name, clauses, revision, changed_at as "changedAt", changed_by as "changedBy"`;

export const listPolicies = (tx: Tx, clientId: string | null = null) =>
  all<Policy & { sources: number }>(
    tx,
    `select ${POLICY}, (select count(*) from sources s where s.policy_id = policies.id) as sources
     from policies where ($1::uuid is null or client_id = $1) order by name`,
    [clientId],
  );
export const policyById = (tx: Tx, id: string) =>
  one<Policy>(tx, `select ${POLICY} from policies where id = $1`, [id]);

/** Inserts or replaces a policy and keeps the revision for its history. */
export async function savePolicy(tx: Tx, policy: Policy): Promise<void> {
  await change(
    tx,
    `insert into policies (id, client_id, name, clauses, revision, changed_at, changed_by) values ($1, $2, $3, $4, $5, $6, $7)
     on conflict (id) do update set name = excluded.name, clauses = excluded.clauses, revision = excluded.revision,
       changed_at = excluded.changed_at, changed_by = excluded.changed_by`,
    [
      policy.id,
      policy.clientId,
      policy.name,
      JSON.stringify(policy.clauses),
      policy.revision,
      policy.changedAt,
      policy.changedBy,
    ],
  );
  await change(
    tx,
    `insert into policy_revisions (policy_id, client_id, revision, clauses, changed_at, changed_by) values ($1, $2, $3, $4, $5, $6)`,
    [
      policy.id,
      policy.clientId,
      policy.revision,
      JSON.stringify(policy.clauses),
      policy.changedAt,
      policy.changedBy,
    ],
  );
}
