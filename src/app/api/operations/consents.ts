import { z } from "zod";
import type { DepotId } from "@/core/ids";
import { type Consent, type ConsentKind, openConsents } from "@/db/access/consents";
import { notify } from "@/db/base/notify";
import type { Tx } from "@/db/base/scope";
import { grantOf, upsertGrant } from "@/db/depots/depots";
import { sourceById } from "@/db/sources/sources";
import { askConsent, takeDecision } from "@/server/access/consents";
import { destroyClientKey } from "@/server/access/key-holding";
import { type Context, operation } from "@/server/api/operation";
import { notFound, Problem } from "@/server/base/problem";
import { deleteSource } from "@/server/sources/source-deletion";
import * as shape from "../shapes";
import { reason, scopeQuery, sourceParam, uuid } from "./ids";
import { saveAgreedRules } from "./policies";

/** What is done when the second person agrees. */
const DEEDS: Readonly<
  Partial<Record<ConsentKind, (context: Context, tx: Tx, consent: Consent) => Promise<unknown>>>
> = {
  "shorten-retention": (context, tx, consent) => saveAgreedRules(context, tx, consent.request),
  "delete-source": (context, tx, consent) => deleteSource(tx, context.who, consent),
  "shorten-lock": (context, tx, consent) => shortenLock(context, tx, consent),
  "destroy-key": (context, tx, consent) => destroyClientKey(context.services, tx, context.who, consent),
};

/** Points to come are locked for a shorter time; those that are stored keep theirs. */
async function shortenLock(context: Context, tx: Tx, consent: Consent) {
  const { depotId, lockDays } = consent.request as { depotId: DepotId; lockDays: number };
  const grant = await grantOf(tx, depotId, consent.clientId);
  if (!grant || grant.lockDays <= lockDays)
    throw new Problem(
      "request.conflict",
      "The lock was changed in the meantime. It is not longer than requested.",
    );
  await upsertGrant(tx, { ...grant, lockDays }, context.who.at);
  await notify(tx, { kind: "depot", clientId: consent.clientId, id: depotId });
  return { lockDays };
}

export const consents = [
  operation({
    id: "listConsents",
    method: "GET",
    path: "/consents",
    summary: "Requests that wait for approval by a second person.",
    caller: "look",
    pages: { of: "consents" },
    query: scopeQuery.pick({ client: true }),
    answer: z.object({ consents: shape.list(shape.consent) }),
    run: (context, { query }) =>
      context.tx(async (tx) => ({ consents: await openConsents(tx, query.client ?? null, context.who.at) })),
  }),
  operation({
    id: "requestSourceDeletion",
    method: "POST",
    path: "/sources/{sourceId}/deletion",
    summary: "Request the deletion of a source with its points. A second person must approve.",
    caller: "work",
    status: 201,
    params: sourceParam,
    body: z.object({ reason }),
    answer: z.object({ consentId: z.string() }),
    run: (context, { params, body }) =>
      context.tx(async (tx) => {
        const source = await sourceById(tx, params.sourceId);
        if (!source) throw notFound();
        const consentId = await askConsent(tx, context.who, context.person!, {
          clientId: source.clientId,
          kind: "delete-source",
          subject: `${source.name} with its points`,
          request: { sourceId: source.id },
          reason: body.reason,
        });
        return { consentId };
      }),
  }),
  operation({
    id: "decideConsent",
    method: "POST",
    path: "/consents/{consentId}/decision",
    summary: "Approve or decline a request as the second person, or withdraw your own.",
    caller: "work",
    params: z.object({ consentId: uuid }),
    body: z.object({ decision: z.enum(["agreed", "declined", "withdrawn"]) }),
    answer: z.union([
      z.object({ decision: z.enum(["declined", "withdrawn"]) }),
      z.object({ decision: z.literal("agreed"), made: z.unknown() }),
    ]),
    run: (context, { params, body }) =>
      context.tx(async (tx) => {
        const consent = await takeDecision(tx, context.who, context.person!, params.consentId, body.decision);
        if (body.decision !== "agreed") return { decision: body.decision };
        const deed = DEEDS[consent.kind];
        if (!deed) throw new Problem("request.conflict", "This cannot be done any more.");
        return { decision: body.decision, made: await deed(context, tx, consent) };
      }),
  }),
];
