import type { ClientId, PersonId, SourceId } from "@/core/ids";
import { all, allPlanned, change, one, type Tx } from "../base/scope";

/** What technicians have given to a client's people: a source, or what lies below a path of it. */
export interface Gift {
  readonly id: string;
  readonly clientId: ClientId;
  readonly personId: PersonId;
  readonly sourceId: SourceId;
  /** Bytes as latin1 characters, like all paths of trees; `/` is all of the source. */
  readonly path: string;
  /** A restore to the machine waits until a manager of the client agrees. */
  readonly askFirst: boolean;
  readonly givenBy: string;
  readonly givenAt: Date;
  readonly until: Date | null;
}
export interface ListedGift extends Gift {
  readonly personName: string;
  readonly sourceName: string;
}

const GIFT = `g.id, g.client_id as "clientId", g.person_id as "personId", g.source_id as "sourceId", g.path, g.ask_first as "askFirst",
  g.given_by as "givenBy", g.given_at as "givenAt", g.until`;
type Row<G> = Omit<G, "path"> & { path: Buffer };
const read = <G extends Gift>(rows: Row<G>[]): G[] =>
  rows.map((row) => ({ ...row, path: row.path.toString("latin1") }) as unknown as G);

const LISTED = `select ${GIFT}, p.name as "personName", s.name as "sourceName" from gifts g
  join people p on p.id = g.person_id join sources s on s.id = g.source_id
  where g.ended_at is null and p.closed_at is null`;

export const giftsOfClient = async (tx: Tx, clientId: ClientId) =>
  read(
    await all<Row<ListedGift>>(tx, `${LISTED} and g.client_id = $1 order by p.name, s.name, g.path`, [
      clientId,
    ]),
  );
export const giftsOfSource = async (tx: Tx, sourceId: SourceId) =>
  read(await all<Row<ListedGift>>(tx, `${LISTED} and g.source_id = $1 order by p.name, g.path`, [sourceId]));

/** What a person has now. */
export const giftsOfPerson = async (tx: Tx, personId: PersonId, now: Date) =>
  read(
    await allPlanned<Row<ListedGift>>(
      tx,
      "gifts of person",
      `${LISTED} and g.person_id = $1 and (g.until is null or g.until > $2) order by s.name, g.path`,
      [personId, now],
    ),
  );
export const giftOfPerson = async (tx: Tx, personId: PersonId, giftId: string, now: Date) =>
  (await giftsOfPerson(tx, personId, now)).find((gift) => gift.id === giftId) ?? null;

/** Gives; 0 when the person has the same already. */
export const insertGift = (tx: Tx, gift: Gift) =>
  change(
    tx,
    `insert into gifts (id, client_id, person_id, source_id, path, ask_first, given_by, given_at, until)
     values ($1, $2, $3, $4, $5, $6, $7, $8, $9) on conflict (person_id, source_id, path) where ended_at is null do nothing`,
    [
      gift.id,
      gift.clientId,
      gift.personId,
      gift.sourceId,
      Buffer.from(gift.path, "latin1"),
      gift.askFirst,
      gift.givenBy,
      gift.givenAt,
      gift.until,
    ],
  );
export const giftById = (tx: Tx, id: string) =>
  one<{ clientId: ClientId; sourceId: SourceId; personId: PersonId }>(
    tx,
    `select client_id as "clientId", source_id as "sourceId", person_id as "personId" from gifts where id = $1 and ended_at is null`,
    [id],
  );
export const endGift = (tx: Tx, id: string, now: Date) =>
  change(tx, "update gifts set ended_at = $2 where id = $1 and ended_at is null", [id, now]);
export const endGiftsOfPerson = (tx: Tx, personId: PersonId, now: Date) =>
  change(tx, "update gifts set ended_at = $2 where person_id = $1 and ended_at is null", [personId, now]);
