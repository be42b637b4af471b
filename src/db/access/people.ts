import type { ClientId, PersonId } from "@/core/ids";
import type { Role } from "@/core/rights/rights";
import { all, change, one, type Tx } from "../base/scope";

export interface Person {
  readonly id: PersonId;
  /** Of a client's people; null for the provider's. */
  readonly clientId: ClientId | null;
  readonly email: string;
  readonly name: string;
  readonly role: Role;
  /** The clients that one of the provider's people is limited to; null for all. */
  readonly clientIds: readonly string[] | null;
  /** Whether a second factor is set up. */
  readonly factor: boolean;
  /** Whether their role must have one and they have none: nothing but setting it up is open. */
  readonly factorMissing: boolean;
}

export const LIMITED = `(select array_agg(pc.client_id::text order by pc.client_id) from people_clients pc where pc.person_id = p.id) as "clientIds"`;
export const PERSON = `p.id, p.client_id as "clientId", p.email, p.name, p.role, ${LIMITED}, p.factor_confirmed_at is not null as factor,
  p.factor_confirmed_at is null and p.role = any(coalesce((select factor_roles from provider), '{}')) as "factorMissing"`;

export const countPeople = async (tx: Tx) =>
  (await one<{ count: number }>(tx, "select count(*) from people"))!.count;
export const personById = (tx: Tx, id: PersonId) =>
  one<Person>(tx, `select ${PERSON} from people p where p.id = $1 and p.closed_at is null`, [id]);

/** What signing in needs to know of a person. */
export interface SignInRow extends Person {
  readonly passwordHash: string | null;
  readonly factorSeed: Buffer | null;
  /** The last step of time whose code was used; none is taken twice. */
  readonly factorStep: number | null;
}
export const personByEmail = (tx: Tx, email: string) =>
  one<SignInRow>(
    tx,
    `select ${PERSON}, p.password_hash as "passwordHash", p.factor_seed as "factorSeed", p.factor_step as "factorStep"
     from people p where p.email = lower($1) and p.closed_at is null`,
    [email],
  );
export const signInRow = (tx: Tx, id: string) =>
  one<SignInRow>(
    tx,
    `select ${PERSON}, p.password_hash as "passwordHash", p.factor_seed as "factorSeed", p.factor_step as "factorStep"
     from people p where p.id = $1 and p.closed_at is null for update of p`,
    [id],
  );

export const insertPerson = (
  tx: Tx,
  person: Pick<Person, "id" | "clientId" | "email" | "name" | "role">,
  passwordHash: string | null,
  now: Date,
) =>
  change(
    tx,
    "insert into people (id, client_id, email, name, role, password_hash, created_at) values ($1, $2, lower($3), $4, $5, $6, $7)",
    [person.id, person.clientId, person.email, person.name, person.role, passwordHash, now],
  );
export const emailTaken = async (tx: Tx, email: string) =>
  (await one<{ there: boolean }>(
    tx,
    "select exists (select from people where email = lower($1) and closed_at is null) as there",
    [email],
  ))!.there;
export const setPassword = (tx: Tx, id: string, hash: string) =>
  change(tx, "update people set password_hash = $2 where id = $1", [id, hash]);
/** Notes who reset a person's password or second factor. */
export const notePasswordReset = (tx: Tx, id: string, by: string) =>
  change(tx, "update people set password_reset_by = $2 where id = $1", [id, by]);
export const noteFactorReset = (tx: Tx, id: string, by: string) =>
  change(tx, "update people set factor_reset_by = $2 where id = $1", [id, by]);
export const clearResets = (tx: Tx, id: string) =>
  change(
    tx,
    `update people set password_reset_by = null, factor_reset_by = null
     where id = $1 and (password_reset_by is not null or factor_reset_by is not null)`,
    [id],
  );
/** Who reset which half of a person's sign-in since the person had both. */
export const resetsOf = async (tx: Tx, id: string) =>
  (await one<{ passwordBy: string | null; factorBy: string | null }>(
    tx,
    `select password_reset_by as "passwordBy", factor_reset_by as "factorBy" from people where id = $1`,
    [id],
  ))!;
export const setRole = (tx: Tx, id: string, role: Role) =>
  change(tx, "update people set role = $2 where id = $1", [id, role]);
/** Ends an account; what it did stays told. */
export const removePerson = (tx: Tx, id: string, now: Date) =>
  change(tx, "update people set closed_at = $2 where id = $1 and closed_at is null", [id, now]);
/** Other owners that could still sign in. */
export const otherOwners = async (tx: Tx, id: string) =>
  (await one<{ count: number }>(
    tx,
    "select count(*) from people where role = 'owner' and closed_at is null and id <> $1",
    [id],
  ))!.count;

/** Limits a person to clients; none for all. Answers whether all of them are there. */
export async function limitToClients(tx: Tx, id: string, clientIds: readonly string[]): Promise<boolean> {
  const wanted = [...new Set(clientIds)];
  await change(tx, "delete from people_clients where person_id = $1", [id]);
  const limited = await change(
    tx,
    "insert into people_clients (person_id, client_id) select $1, id from clients where id = any($2::uuid[])",
    [id, wanted],
  );
  return limited === wanted.length;
}

/** A person as lists show them. */
export interface ListedPerson extends Person {
  readonly clientName: string | null;
  /** Invited, and the invitation not taken up yet. */
  readonly invited: boolean;
  readonly createdAt: Date;
  readonly seenAt: Date | null;
  readonly gifts: number;
}
/** People of one client, or, with null, the provider's own. */
export const listPeople = (tx: Tx, clientId: ClientId | null) =>
  all<ListedPerson>(
    tx,
    `select ${PERSON}, c.name as "clientName", p.password_hash is null as invited, p.created_at as "createdAt",
       (select count(*)::int from gifts g where g.person_id = p.id and g.ended_at is null) as gifts, p.last_seen_at as "seenAt"
     from people p left join clients c on c.id = p.client_id
     where p.closed_at is null and p.client_id is not distinct from $1 order by p.name`,
    [clientId],
  );

export const factorRoles = async (tx: Tx): Promise<readonly Role[]> =>
  (await one<{ roles: Role[] }>(tx, "select factor_roles as roles from provider"))?.roles ?? [];
export const setFactorRoles = (tx: Tx, roles: readonly Role[]) =>
  change(tx, "update provider set factor_roles = $1", [roles]);
