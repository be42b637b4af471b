import { randomUUID } from "node:crypto";
import type { ClientId } from "@/core/ids";
import {
  type Consent,
  type ConsentKind,
  decideConsent,
  insertConsent,
  lockConsent,
  openConsents,
} from "@/db/access/consents";
import type { Person } from "@/db/access/people";
import { notify } from "@/db/base/notify";
import type { Tx } from "@/db/base/scope";
import { notFound, Problem } from "../base/problem";
import { record, type Who } from "./who";

/** So long a second person has for it. */
export const CONSENT_DAYS = 7;

/** What is asked for, as the trail and the second person read it. */
export const CONSENT_WORDS: Readonly<Record<ConsentKind, string>> = {
  "destroy-key": "destroy the key",
  "delete-source": "delete the source with its points",
  "shorten-retention": "keep points for a shorter time",
  "shorten-lock": "shorten the lock of future points",
};

export interface Wish {
  readonly clientId: ClientId;
  readonly kind: ConsentKind;
  readonly subject: string;
  readonly request: Record<string, unknown>;
  readonly reason: string;
}

/** Asks for what a second person must agree to. Asked twice for the same, the first one stands. */
export async function askConsent(tx: Tx, who: Who, person: Person, wish: Wish): Promise<string> {
  const same = (await openConsents(tx, wish.clientId, who.at)).find(
    (one) => one.kind === wish.kind && JSON.stringify(one.request) === JSON.stringify(wish.request),
  );
  if (same) return same.id;
  const id = randomUUID();
  await insertConsent(tx, {
    ...wish,
    id,
    askedBy: person.id,
    askedAt: who.at,
    expiresAt: new Date(who.at.getTime() + CONSENT_DAYS * 86_400_000),
  });
  await record(tx, who, wish.clientId, `asked to ${CONSENT_WORDS[wish.kind]}`, wish.subject, {
    reason: wish.reason,
    consent: id,
  });
  await notify(tx, { kind: "client", clientId: wish.clientId, id: wish.clientId });
  return id;
}

/**
 * Takes a second person's decision; agreed, the caller does the deed in the same transaction. Throws a conflict for the
 * person who asked, for what was decided before, and for what waited too long.
 */
export async function takeDecision(
  tx: Tx,
  who: Who,
  person: Person,
  consentId: string,
  decision: "agreed" | "declined" | "withdrawn",
): Promise<Consent> {
  const consent = await lockConsent(tx, consentId);
  if (!consent) throw notFound();
  if (consent.decision)
    throw new Problem("request.conflict", `${consent.decidedByName} has ${consent.decision} it already.`);
  if (consent.expiresAt <= who.at)
    throw new Problem("request.conflict", "It waited too long and has expired. Request it again.");
  const own = consent.askedBy === person.id;
  if (own && decision !== "withdrawn")
    throw new Problem("auth.not-allowed", "A second person must decide. You made this request yourself.");
  if (!own && decision === "withdrawn")
    throw new Problem(
      "auth.not-allowed",
      "Only the person who made the request can withdraw it. Decline it instead.",
    );
  await decideConsent(tx, consent.id, decision, person.id, who.at);
  const words =
    decision === "agreed" ? "agreed to" : decision === "declined" ? "declined to" : "withdrew the request to";
  await record(tx, who, consent.clientId, `${words} ${CONSENT_WORDS[consent.kind]}`, consent.subject, {
    askedBy: consent.askedByName,
    reason: consent.reason,
    consent: consent.id,
  });
  await notify(tx, { kind: "client", clientId: consent.clientId, id: consent.clientId });
  return consent;
}
