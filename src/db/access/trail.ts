import type { ClientId } from "@/core/ids";
import { all, change, one, type Tx } from "../base/scope";

export interface TrailRow {
  readonly id: number;
  readonly at: Date;
  readonly clientId: ClientId | null;
  readonly clientName: string | null;
  readonly actor: string;
  readonly address: string;
  readonly action: string;
  readonly subject: string;
  readonly details: Record<string, unknown>;
}

export interface TrailEntry {
  readonly at: Date;
  readonly clientId: ClientId | null;
  readonly actor: string;
  readonly address: string;
  readonly action: string;
  readonly subject: string;
  readonly details?: Record<string, unknown>;
}

/** Adds a row to the end of the chain; part of the transaction of what it tells. */
export const appendTrail = async (tx: Tx, entry: TrailEntry): Promise<void> => {
  await tx.query("select append_trail($1, $2, $3, $4, $5, $6, $7)", [
    entry.at,
    entry.clientId,
    entry.actor,
    entry.address,
    entry.action,
    entry.subject,
    JSON.stringify(entry.details ?? {}),
  ]);
};

export interface TrailFilter {
  readonly clientId?: ClientId | null;
  readonly search?: string | null;
  /** Days in which it was done. */
  readonly from?: Date | null;
  readonly to?: Date | null;
}
export const readTrail = (
  tx: Tx,
  filter: TrailFilter & { readonly before?: number | null; readonly limit: number },
) =>
  all<TrailRow>(
    tx,
    `select t.id, t.at, t.client_id as "clientId", c.name as "clientName", t.actor, t.address, t.action, t.subject, t.details
     from trail t left join clients c on c.id = t.client_id
     where ($1::uuid is null or t.client_id = $1) and ($3::bigint is null or t.id < $3)
       and ($2::text is null or concat_ws(' ', t.actor, t.action, t.subject, t.details::text) ilike '%' || $2 || '%')
       and ($5::timestamptz is null or t.at >= $5) and ($6::timestamptz is null or t.at < $6)
     order by t.id desc limit $4`,
    [
      filter.clientId ?? null,
      filter.search || null,
      filter.before ?? null,
      filter.limit,
      filter.from ?? null,
      filter.to ?? null,
    ],
  );

/** A row with its place in the chain: what it was made from can be checked elsewhere too. */
export interface ChainedRow extends TrailRow {
  readonly previous: Buffer;
  readonly hash: Buffer;
}
/** The next rows after an id, the oldest first, for an export. */
export const trailAfter = (tx: Tx, filter: TrailFilter, after: number, limit: number) =>
  all<ChainedRow>(
    tx,
    `select t.id, t.at, t.client_id as "clientId", c.name as "clientName", t.actor, t.address, t.action, t.subject, t.details, t.previous, t.hash
     from trail t left join clients c on c.id = t.client_id
     where t.id > $3 and ($1::uuid is null or t.client_id = $1)
       and ($2::text is null or concat_ws(' ', t.actor, t.action, t.subject, t.details::text) ilike '%' || $2 || '%')
       and ($5::timestamptz is null or t.at >= $5) and ($6::timestamptz is null or t.at < $6)
     order by t.id limit $4`,
    [filter.clientId ?? null, filter.search || null, after, limit, filter.from ?? null, filter.to ?? null],
  );

/** Id of the first row that does not fit the chain, or null when all do. */
export const verifyTrail = async (tx: Tx) =>
  (await one<{ bad: number | null }>(tx, "select verify_trail() as bad"))!.bad;

/** Up to which row the trail was sent to a place; 0 where nothing went there yet. */
export const trailSent = async (tx: Tx, target: string): Promise<number> =>
  Number(
    (await one<{ upto: string }>(tx, "select upto from trail_sent where target = $1", [target]))?.upto ?? 0,
  );
export const noteTrailSent = (tx: Tx, target: string, upto: number) =>
  change(
    tx,
    `insert into trail_sent (target, upto) values ($1, $2)
     on conflict (one) do update set target = excluded.target, upto = excluded.upto`,
    [target, upto],
  );
