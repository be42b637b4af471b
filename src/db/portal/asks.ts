import type { ClientId, PersonId, RunId, SourceId } from "@/core/ids";
import { all, change, one, type Tx } from "../base/scope";

/** Restores of a client's people that wait for a manager's word. */
export interface Ask {
  readonly id: string;
  readonly clientId: ClientId;
  readonly personId: PersonId;
  readonly personName: string;
  readonly sourceId: SourceId;
  readonly sourceName: string;
  readonly request: Record<string, unknown>;
  readonly files: number;
  readonly bytes: number;
  readonly askedAt: Date;
  readonly expiresAt: Date;
  readonly decision: "agreed" | "declined" | null;
  readonly decidedBy: string | null;
  readonly decidedAt: Date | null;
  readonly runId: RunId | null;
}
// a manager sees people of the client; a person sees themself
const ASK = `select a.id, a.client_id as "clientId", a.person_id as "personId", p.name as "personName", a.source_id as "sourceId",
  s.name as "sourceName", a.request, a.files, a.bytes, a.asked_at as "askedAt", a.expires_at as "expiresAt", a.decision,
  a.decided_by as "decidedBy", a.decided_at as "decidedAt", a.run_id as "runId"
  from asks a join people p on p.id = a.person_id join sources s on s.id = a.source_id`;

export const insertAsk = (
  tx: Tx,
  ask: Pick<
    Ask,
    "id" | "clientId" | "personId" | "sourceId" | "request" | "files" | "bytes" | "askedAt" | "expiresAt"
  >,
) =>
  change(
    tx,
    `insert into asks (id, client_id, person_id, source_id, request, files, bytes, asked_at, expires_at)
     values ($1, $2, $3, $4, $5, $6, $7, $8, $9)`,
    [
      ask.id,
      ask.clientId,
      ask.personId,
      ask.sourceId,
      JSON.stringify(ask.request),
      ask.files,
      ask.bytes,
      ask.askedAt,
      ask.expiresAt,
    ],
  );
export const openAsks = (tx: Tx, clientId: ClientId, now: Date) =>
  all<Ask>(
    tx,
    `${ASK} where a.client_id = $1 and a.decision is null and a.expires_at > $2 order by a.asked_at`,
    [clientId, now],
  );
export const asksOfPerson = (tx: Tx, personId: PersonId, since: Date) =>
  all<Ask>(tx, `${ASK} where a.person_id = $1 and a.asked_at > $2 order by a.asked_at desc limit 20`, [
    personId,
    since,
  ]);
export const lockAsk = async (tx: Tx, id: string): Promise<Ask | null> => {
  await tx.query("select from asks where id = $1 and decision is null for update", [id]);
  return one<Ask>(tx, `${ASK} where a.id = $1`, [id]);
};
export const decideAsk = (
  tx: Tx,
  id: string,
  decision: "agreed" | "declined",
  by: string,
  at: Date,
  runId: RunId | null,
) =>
  change(
    tx,
    "update asks set decision = $2, decided_by = $3, decided_at = $4, run_id = $5 where id = $1 and decision is null",
    [id, decision, by, at, runId],
  );
