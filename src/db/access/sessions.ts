import type { PersonId } from "@/core/ids";
import { all, change, one, onePlanned, type Tx } from "../base/scope";
import { PERSON, type Person } from "./people";

/** Sessions, tokens of the API and invitations: each held by the SHA-256 of its secret. */

export interface NewSession {
  readonly id: Buffer;
  readonly personId: PersonId;
  readonly expires: Date;
  readonly address: string;
  /** What the browser calls itself. */
  readonly agent: string;
}
export async function insertSession(tx: Tx, session: NewSession, now: Date): Promise<void> {
  await change(
    tx,
    "insert into sessions (id, person_id, created_at, seen_at, expires_at, address, agent) values ($1, $2, $3, $3, $4, $5, $6)",
    [session.id, session.personId, now, session.expires, session.address, session.agent],
  );
  await change(tx, "update people set last_seen_at = $2 where id = $1", [session.personId, now]);
}

/** A client's people left their desk: their session ends after so long without a sign of them. */
export const IDLE_MINUTES = 20;
const IDLE = `(p.client_id is null or s.seen_at > $2::timestamptz - interval '${IDLE_MINUTES} minutes')`;

/** Whose session it is, and whether no sign of life of it was noted for a minute. */
export const personBySession = (tx: Tx, id: Buffer, now: Date) =>
  onePlanned<Person & { readonly longUnseen: boolean }>(
    tx,
    "person by session",
    `select ${PERSON}, s.seen_at < $2::timestamptz - interval '1 minute' as "longUnseen" from sessions s join people p on p.id = s.person_id
     where s.id = $1 and s.expires_at > $2 and p.closed_at is null and ${IDLE}`,
    [id, now],
  );
/** Notes a sign of life, once a minute at most. */
export const seeSession = (tx: Tx, id: Buffer, now: Date) =>
  change(
    tx,
    "update sessions set seen_at = $2 where id = $1 and seen_at < $2::timestamptz - interval '1 minute'",
    [id, now],
  );

export interface ListedSession {
  readonly id: string;
  readonly createdAt: Date;
  readonly seenAt: Date;
  readonly expiresAt: Date;
  readonly address: string;
  readonly agent: string;
  readonly current: boolean;
}
export const sessionsOf = (tx: Tx, personId: PersonId, current: Buffer | null, now: Date) =>
  all<ListedSession>(
    tx,
    `select s.public_id as id, s.created_at as "createdAt", s.seen_at as "seenAt", s.expires_at as "expiresAt", s.address, s.agent,
       coalesce(s.id = $3, false) as current
     from sessions s join people p on p.id = s.person_id where s.person_id = $1 and s.expires_at > $2 and ${IDLE} order by s.seen_at desc`,
    [personId, now, current],
  );
/** Ends one session of a person; answers its hash for what was held for it. */
export const endSession = (tx: Tx, personId: PersonId, publicId: string) =>
  one<{ id: Buffer }>(tx, "delete from sessions where person_id = $1 and public_id = $2 returning id", [
    personId,
    publicId,
  ]);
/** Ends all sessions of a person but one. */
/** Ends a person's sessions, all or all but one; what they lent ends with them by a trigger. Returns how many. */
export const endSessions = (tx: Tx, personId: PersonId, but: Buffer | null) =>
  change(tx, "delete from sessions where person_id = $1 and ($2::bytea is null or id <> $2)", [
    personId,
    but,
  ]);
export const deleteSession = (tx: Tx, id: Buffer) => change(tx, "delete from sessions where id = $1", [id]);
export const deleteOldSessions = (tx: Tx, now: Date) =>
  change(tx, "delete from sessions where expires_at <= $1", [now]);

/** Whether a person signed in from such a browser before; remembers it. The first of all is not new. */
export async function newAgent(tx: Tx, personId: PersonId, id: Buffer, now: Date): Promise<boolean> {
  const known = (await one<{ count: number }>(tx, "select count(*) from known_agents where person_id = $1", [
    personId,
  ]))!.count;
  const added = await change(
    tx,
    "insert into known_agents (person_id, id, first_at) values ($1, $2, $3) on conflict do nothing",
    [personId, id, now],
  );
  return added === 1 && known > 0;
}

/** What a token of the API may do: read, or all that its person may. */
export type TokenReach = "read" | "change";
export const insertToken = (
  tx: Tx,
  id: Buffer,
  personId: PersonId,
  name: string,
  now: Date,
  expires: Date,
  reach: TokenReach = "change",
) =>
  one<{ id: string }>(
    tx,
    `insert into api_tokens (id, person_id, name, created_at, expires_at, reach) values ($1, $2, $3, $4, $5, $6) returning public_id as id`,
    [id, personId, name, now, expires, reach],
  );
/** What a request is allowed by its token. */
export interface ApiToken {
  readonly reach: TokenReach;
  readonly expiresAt: Date;
}
export const personByToken = (tx: Tx, id: Buffer, now: Date) =>
  onePlanned<Person & ApiToken>(
    tx,
    "person by token",
    `select ${PERSON}, t.reach, t.expires_at as "expiresAt" from api_tokens t join people p on p.id = t.person_id
     where t.id = $1 and t.expires_at > $2 and p.closed_at is null`,
    [id, now],
  );
/** Notes that a token was used, once an hour at most. */
export const seeToken = (tx: Tx, id: Buffer, now: Date) =>
  change(
    tx,
    "update api_tokens set used_at = $2 where id = $1 and (used_at is null or used_at < $2::timestamptz - interval '1 hour')",
    [id, now],
  );
export interface ListedToken {
  readonly id: string;
  readonly name: string;
  readonly reach: TokenReach;
  readonly createdAt: Date;
  readonly expiresAt: Date;
  readonly usedAt: Date | null;
}
export const tokensOf = (tx: Tx, personId: PersonId, now: Date) =>
  all<ListedToken>(
    tx,
    `select public_id as id, name, reach, created_at as "createdAt", expires_at as "expiresAt", used_at as "usedAt"
     from api_tokens where person_id = $1 and expires_at > $2 order by created_at desc`,
    [personId, now],
  );
export const revokeToken = (tx: Tx, personId: PersonId, publicId: string) =>
  change(tx, "delete from api_tokens where person_id = $1 and public_id = $2", [personId, publicId]);
export const endTokens = (tx: Tx, personId: PersonId) =>
  change(tx, "delete from api_tokens where person_id = $1", [personId]);

export async function insertInvitation(
  tx: Tx,
  id: Buffer,
  personId: PersonId,
  madeBy: string,
  now: Date,
  expires: Date,
): Promise<void> {
  await change(tx, "delete from invitations where person_id = $1", [personId]);
  await change(
    tx,
    "insert into invitations (id, person_id, made_by, made_at, expires_at) values ($1, $2, $3, $4, $5)",
    [id, personId, madeBy, now, expires],
  );
}
export interface Invitation {
  readonly personId: PersonId;
  readonly name: string;
  readonly email: string;
  readonly madeBy: string;
  /** Whether the person has a second factor, whose code is asked for too. */
  readonly factor: boolean;
}
export const invitationById = (tx: Tx, id: Buffer, now: Date) =>
  one<Invitation>(
    tx,
    `select i.person_id as "personId", p.name, p.email, i.made_by as "madeBy", p.factor_confirmed_at is not null as factor from invitations i join people p on p.id = i.person_id
     where i.id = $1 and i.expires_at > $2 and p.closed_at is null`,
    [id, now],
  );
/** Takes an invitation up, once. */
export const takeInvitation = (tx: Tx, id: Buffer) =>
  change(tx, "delete from invitations where id = $1", [id]);

/** Deletes counts of attempts that have expired. */
export const deleteOldLimits = (tx: Tx, now: Date) =>
  change(tx, "delete from rate_limits where expire < $1", [now.getTime()]);
