import { all, change, one, type Tx } from "./scope";

export type Role = "owner" | "technician" | "portal";

export interface Person {
  readonly id: string;
  readonly clientId: string | null;
  readonly email: string;
  readonly name: string;
  readonly role: Role;
}

const PERSON = `p.id, p.client_id as "clientId", p.email, p.name, p.role`;

export const listPeople = (tx: Tx) => all<Person>(tx, `select ${PERSON} from people p order by p.name`);
export const countPeople = async (tx: Tx) =>
  (await one<{ count: number }>(tx, "select count(*) from people"))!.count;
export const personByEmail = (tx: Tx, email: string) =>
  one<Person & { passwordHash: string }>(
    tx,
    `select ${PERSON}, p.password_hash as "passwordHash" from people p where email = lower($1)`,
    [email],
  );

export const insertPerson = (tx: Tx, person: Person, passwordHash: string, now: Date) =>
  change(
    tx,
    "insert into people (id, client_id, email, name, role, password_hash, created_at) values ($1, $2, lower($3), $4, $5, $6, $7)",
    [person.id, person.clientId, person.email, person.name, person.role, passwordHash, now],
  );

export const insertSession = (
  tx: Tx,
  id: Buffer,
  personId: string,
  now: Date,
  expires: Date,
  address: string,
) =>
  change(
    tx,
    "insert into sessions (id, person_id, created_at, expires_at, address) values ($1, $2, $3, $4, $5)",
    [id, personId, now, expires, address],
  );
export const personBySession = (tx: Tx, id: Buffer, now: Date) =>
  one<Person>(
    tx,
    `select ${PERSON} from sessions s join people p on p.id = s.person_id where s.id = $1 and s.expires_at > $2`,
    [id, now],
  );
export const deleteSession = (tx: Tx, id: Buffer) => change(tx, "delete from sessions where id = $1", [id]);
export const deleteOldSessions = (tx: Tx, now: Date) =>
  change(tx, "delete from sessions where expires_at <= $1", [now]);

export const insertToken = (tx: Tx, id: Buffer, personId: string, name: string, now: Date, expires: Date) =>
  change(
    tx,
    "insert into api_tokens (id, person_id, name, created_at, expires_at) values ($1, $2, $3, $4, $5)",
    [id, personId, name, now, expires],
  );
export const personByToken = (tx: Tx, id: Buffer, now: Date) =>
  one<Person>(
    tx,
    `select ${PERSON} from api_tokens t join people p on p.id = t.person_id where t.id = $1 and t.expires_at > $2`,
    [id, now],
  );
