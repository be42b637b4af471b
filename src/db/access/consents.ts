import type { ClientId, PersonId } from "@/core/ids";
import { allPlanned, change, one, type Tx } from "../base/scope";

export type ConsentKind = "destroy-key" | "delete-source" | "shorten-retention" | "shorten-lock";

/** What one person asked for, and a second one agrees to or declines. */
export interface Consent {
  readonly id: string;
  readonly clientId: ClientId;
  readonly clientName: string;
  readonly kind: ConsentKind;
  /** What it is about, for people. */
  readonly subject: string;
  readonly request: Readonly<Record<string, unknown>>;
  readonly reason: string;
  readonly askedBy: string;
  readonly askedByName: string;
  readonly askedAt: Date;
  readonly expiresAt: Date;
  readonly decision: "agreed" | "declined" | "withdrawn" | null;
  readonly decidedByName: string | null;
  readonly decidedAt: Date | null;
}

const CONSENT = `n.id, n.client_id as "clientId", c.name as "clientName", n.kind, n.subject, n.request, n.reason, n.asked_by as "askedBy",
  a.name as "askedByName", n.asked_at as "askedAt", n.expires_at as "expiresAt", n.decision, d.name as "decidedByName", n.decided_at as "decidedAt"`;
const FROM =
  "consents n join clients c on c.id = n.client_id join people a on a.id = n.asked_by left join people d on d.id = n.decided_by";

/** What waits for a second person, the oldest first. */
export const openConsents = (tx: Tx, clientId: ClientId | null, now: Date) =>
  allPlanned<Consent>(
    tx,
    "open consents",
    `select ${CONSENT} from ${FROM} where n.decision is null and n.expires_at > $2 and ($1::uuid is null or n.client_id = $1) order by n.asked_at`,
    [clientId, now],
  );
/** The same, locked for the rest of the transaction. */
export const lockConsent = (tx: Tx, id: string) =>
  one<Consent>(tx, `select ${CONSENT} from ${FROM} where n.id = $1 for update of n`, [id]);
export const insertConsent = (
  tx: Tx,
  consent: Pick<
    Consent,
    "id" | "clientId" | "kind" | "subject" | "request" | "reason" | "askedBy" | "askedAt" | "expiresAt"
  >,
) =>
  change(
    tx,
    `insert into consents (id, client_id, kind, subject, request, reason, asked_by, asked_at, expires_at)
     values ($1, $2, $3, $4, $5, $6, $7, $8, $9)`,
    [
      consent.id,
      consent.clientId,
      consent.kind,
      consent.subject,
      JSON.stringify(consent.request),
      consent.reason,
      consent.askedBy,
      consent.askedAt,
      consent.expiresAt,
    ],
  );
export const decideConsent = (
  tx: Tx,
  id: string,
  decision: NonNullable<Consent["decision"]>,
  personId: PersonId,
  now: Date,
) =>
  change(
    tx,
    "update consents set decision = $2, decided_by = $3, decided_at = $4 where id = $1 and decision is null",
    [id, decision, personId, now],
  );

/** What stays when a key is gone. */
export interface Certificate {
  readonly id: string;
  readonly clientId: ClientId;
  readonly madeAt: Date;
  readonly body: Readonly<Record<string, unknown>>;
}
export const insertCertificate = (tx: Tx, certificate: Certificate) =>
  change(tx, "insert into certificates (id, client_id, made_at, body) values ($1, $2, $3, $4)", [
    certificate.id,
    certificate.clientId,
    certificate.madeAt,
    JSON.stringify(certificate.body),
  ]);
export const certificateOf = (tx: Tx, clientId: ClientId) =>
  one<Certificate>(
    tx,
    `select id, client_id as "clientId", made_at as "madeAt", body from certificates where client_id = $1 order by made_at desc limit 1`,
    [clientId],
  );
