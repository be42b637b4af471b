import { randomUUID } from "node:crypto";
import { z } from "zod";
import { ADVICE_KEYS } from "@/core/consequences/advice";
import { consequencesOf } from "@/core/consequences/consequences";
import type { PolicyId } from "@/core/ids";
import {
  CLAUSE_NAMES,
  groupRule,
  POLICY_FORMAT,
  POLICY_VERSION,
  type PolicyFile,
  policyFile,
  upgradedFile,
} from "@/core/policy/cascade";
import { type Clauses, clausesSchema, howLongClause } from "@/core/policy/clauses";
import { conductClause } from "@/core/policy/conduct";
import { noticesClause } from "@/core/policy/notices";
import { whenClause } from "@/core/policy/when";
import { notify } from "@/db/base/notify";
import { inTurn, type Tx } from "@/db/base/scope";
import { clientById, readProvider, siteById } from "@/db/clients/clients";
import { clientKey } from "@/db/clients/keys";
import { listDepots } from "@/db/depots/depots";
import { adviceSetAside, dismissAdvice, restoreAdvice } from "@/db/sources/facts";
import {
  listPolicies,
  type Owner,
  type Policy,
  policyById,
  policyOfOwner,
  revisionsOf,
} from "@/db/sources/policies";
import { assignPolicy, setPaused, setTags, sourceById } from "@/db/sources/sources";
import { whatClause } from "@/kinds/what";
import { effectsOf, findGroups, settleRules } from "@/server/access/rules";
import { type Context, operation } from "@/server/api/operation";
import { invalid, notFound, Problem } from "@/server/base/problem";
import { factsFor } from "@/server/policies/policy-facts";
import { nextRevision, saveRules, sentencesOf, shortened } from "@/server/policies/policy-saving";
import * as shape from "../shapes";
import { clientParam, name, policyParam, scopeQuery, sourceParam, uuid } from "./ids";

const pins = z.array(z.enum(CLAUSE_NAMES)).default([]);
const reasonOrNone = z.string().trim().max(500).nullable().default(null);
const clauses = clausesSchema.partial();
const policyBody = z.object({
  name: name("a name for the policy"),
  clauses,
  pins,
  rule: groupRule.nullable().optional(),
  reason: reasonOrNone,
});
const layerBody = z.object({ clauses, pins, reason: reasonOrNone });

const fresh = (context: Context, policy: Partial<Policy> & Pick<Policy, "level" | "name">): Policy => ({
  id: randomUUID(),
  clientId: null,
  siteId: null,
  sourceId: null,
  clauses: {},
  pins: [],
  rule: null,
  revision: 0,
  changedAt: context.who.at,
  changedBy: context.who.actor,
  ...policy,
});

/** Saves and tells what follows: 200 with what is in force, or what a second person must agree to. */
async function save(context: Context, tx: Tx, policy: Policy, why: string | null) {
  const saved = await saveRules(tx, context.who, context.person, policy, why);
  return {
    policy: saved.policy ?? policy,
    saved: saved.policy !== null,
    consentId: saved.consentId,
    sentences: await sentencesOf(tx, policy.clauses),
    effects: saved.effects.length,
  };
}

const LEVELS_WITH_OWNER = ["provider", "client", "site", "source"] as const;
const ownerParam = z.object({
  level: z.enum(LEVELS_WITH_OWNER),
  /** A client, a site or a source; `all` for the provider. */
  ownerId: z.string().regex(/^(all|[0-9a-f-]{36})$/),
});

/** Whose rules these are, and how they are called. Throws `not-found`. */
async function ownerOf(
  tx: Tx,
  { level, ownerId }: z.infer<typeof ownerParam>,
): Promise<{ owner: Owner; name: string }> {
  const none = { clientId: null, siteId: null, sourceId: null };
  if (level === "provider") {
    if (ownerId !== "all") throw notFound();
    return { owner: { level, ...none }, name: (await readProvider(tx))?.name ?? "The provider" };
  }
  if (ownerId === "all") throw notFound();
  if (level === "client") {
    const client = await clientById(tx, ownerId);
    if (!client) throw notFound();
    return { owner: { level, ...none, clientId: client.id }, name: client.name };
  }
  if (level === "site") {
    const site = await siteById(tx, ownerId);
    if (!site) throw notFound();
    return { owner: { level, ...none, clientId: site.clientId, siteId: site.id }, name: site.name };
  }
  const source = await sourceById(tx, ownerId);
  if (!source) throw notFound();
  return { owner: { level, ...none, clientId: source.clientId, sourceId: source.id }, name: source.name };
}

async function thePolicy(tx: Tx, policyId: PolicyId): Promise<Policy> {
  const policy = await policyById(tx, policyId);
  if (!policy) throw notFound();
  return policy;
}

const adviceParam = policyParam.extend({ advice: z.enum(ADVICE_KEYS) });

/** What is wished for: an existing policy as it is to be, or a new one. */
const wishSchema = z.object({
  policyId: uuid.nullable().default(null),
  owner: ownerParam.nullable().default(null),
  clauses,
  pins,
});

export const policies = [
  operation({
    id: "listPolicies",
    method: "GET",
    path: "/policies",
    summary: "Policies, of one client or of all.",
    caller: "look",
    pages: { of: "policies" },
    query: scopeQuery.pick({ client: true }),
    answer: z.object({
      policies: shape.list(
        z.object({
          clientId: z.string(),
          siteId: z.string().nullable(),
          sourceId: z.string().nullable(),
          rule: groupRule.nullable(),
          revision: z.number(),
          changedAt: shape.moment,
          changedBy: z.string(),
          id: z.string(),
          level: z.enum(["client", "site", "source", "provider", "group"]),
          name: z.string(),
          clauses: clausesSchema.partial(),
          pins: shape.list(shape.clauseName),
          sources: z.number(),
        }),
      ),
    }),
    run: (context, { query }) =>
      context.tx(async (tx) => ({ policies: await listPolicies(tx, query.client ?? null) })),
  }),
  operation({
    id: "createPolicy",
    method: "POST",
    path: "/policies",
    summary:
      "Create a policy of a client. Clauses that are left out are inherited from site, client or provider.",
    caller: "work",
    status: 201,
    body: policyBody.extend({ clientId: uuid }),
    answer: shape.savedPolicy,
    run: (context, { body }) =>
      context.tx(async (tx) => {
        const { clientId } = body;
        if (!(await clientById(tx, clientId))) throw invalid("clientId", "This client is not there.");
        const start = fresh(context, { level: "group", name: body.name, clientId });
        return save(context, tx, nextRevision(start, context.who, body), body.reason);
      }),
  }),
  operation({
    id: "readPolicy",
    method: "GET",
    path: "/policies/{policyId}",
    summary: "One policy.",
    caller: "look",
    params: policyParam,
    answer: z.object({ policy: shape.policy }),
    run: (context, { params }) =>
      context.tx(async (tx) => ({ policy: await thePolicy(tx, params.policyId) })),
  }),
  operation({
    id: "changePolicy",
    method: "PUT",
    path: "/policies/{policyId}",
    summary:
      "Change a policy; its schedules are recalculated. Shorter retention waits for approval by a second person.",
    caller: "work",
    params: policyParam,
    body: policyBody.extend({ revision: z.number().int() }),
    answer: shape.savedPolicy,
    run: (context, { params, body }) =>
      context.tx(async (tx) => {
        const policy = await thePolicy(tx, params.policyId);
        if (body.revision !== policy.revision)
          throw invalid(
            "revision",
            `${policy.changedBy} changed this policy in the meantime. Reload it, then repeat your change.`,
          );
        return save(context, tx, nextRevision(policy, context.who, body), body.reason);
      }),
  }),
  operation({
    id: "readRules",
    method: "GET",
    path: "/rules/{level}/{ownerId}",
    summary: "The clauses set by the provider, a client, a site or a source, or null.",
    caller: "look",
    params: ownerParam,
    answer: z.object({ policy: shape.policy.nullable() }),
    run: (context, { params }) =>
      context.tx(async (tx) => ({ policy: await policyOfOwner(tx, (await ownerOf(tx, params)).owner) })),
  }),
  operation({
    id: "setRules",
    method: "PUT",
    path: "/rules/{level}/{ownerId}",
    summary: "Set clauses and pins of the provider, a client, a site or a source.",
    caller: "work",
    params: ownerParam,
    body: layerBody.extend({ revision: z.number().int().default(0) }),
    answer: shape.savedPolicy,
    run: (context, { params, body }) =>
      context.tx(async (tx) => {
        const { owner, name: called } = await ownerOf(tx, params);
        const there = await policyOfOwner(tx, owner);
        if (body.revision !== (there?.revision ?? 0))
          throw invalid(
            "revision",
            "These rules were changed in the meantime. Reload them, then repeat your change.",
          );
        const start = there ?? fresh(context, { ...owner, name: called });
        return save(context, tx, nextRevision({ ...start, name: called }, context.who, body), body.reason);
      }),
  }),
  operation({
    id: "previewRules",
    method: "POST",
    path: "/rules/preview",
    summary: "The effects of saving these rules, by source. Nothing is saved.",
    caller: "look",
    body: wishSchema,
    answer: z.object({
      secondPerson: z.number(),
      total: z.number(),
      effects: shape.list(
        z.object({
          changes: shape.list(
            z.object({
              clause: shape.clauseName,
              before: z.string().optional(),
              after: z.string().optional(),
            }),
          ),
          sourceId: z.string(),
          sourceName: z.string(),
          clientId: z.string(),
          clientName: z.string(),
          overruled: shape.list(z.string()),
          stops: z.boolean(),
        }),
      ),
    }),
    run: (context, { body }) =>
      context.tx(async (tx) => {
        if (!body.policyId === !body.owner)
          throw invalid("policyId", "Name the policy, or whose rules they are.");
        let policy: Policy;
        if (body.policyId) policy = await thePolicy(tx, body.policyId);
        else {
          const { owner, name: called } = await ownerOf(tx, body.owner!);
          policy = (await policyOfOwner(tx, owner)) ?? fresh(context, { ...owner, name: called });
        }
        const effects = await effectsOf(tx, nextRevision(policy, context.who, body));
        const said = new Map<string, string | null>();
        const textOf = async (values: Partial<Clauses>) => {
          const key = JSON.stringify(values);
          if (!said.has(key)) said.set(key, (await sentencesOf(tx, values))[0]?.text ?? null);
          return said.get(key)!;
        };
        return {
          secondPerson: shortened(effects).length,
          total: effects.length,
          effects: await inTurn(effects.slice(0, 50), async (effect) => ({
            ...effect,
            changes: await inTurn(effect.changes, async ({ clause, before, after }) => ({
              clause,
              before: before && (await textOf({ [clause]: before })),
              after: after && (await textOf({ [clause]: after })),
            })),
          })),
        };
      }),
  }),
  operation({
    id: "policyHistory",
    method: "GET",
    path: "/policies/{policyId}/history",
    summary: "The versions of a policy, or of rules of another level: who, when and why.",
    caller: "look",
    pages: { of: "revisions", key: "revision" },
    params: policyParam,
    answer: z.object({
      revisions: shape.list(
        z.object({
          sentences: shape.list(shape.clauseSentence),
          revision: z.number(),
          name: z.string(),
          clauses: clausesSchema.partial(),
          pins: shape.list(shape.clauseName),
          rule: groupRule.nullable(),
          reason: z.string().nullable(),
          changedAt: shape.moment,
          changedBy: z.string(),
        }),
      ),
    }),
    run: (context, { params }) =>
      context.tx(async (tx) => {
        await thePolicy(tx, params.policyId);
        const revisions = await revisionsOf(tx, params.policyId);
        return {
          revisions: await inTurn(revisions, async (one) => ({
            ...one,
            sentences: await sentencesOf(tx, one.clauses),
          })),
        };
      }),
  }),
  operation({
    id: "restorePolicyVersion",
    method: "POST",
    path: "/policies/{policyId}/history/{revision}",
    summary: "Restore an earlier version. It becomes the newest version; the history is kept.",
    caller: "work",
    params: policyParam.extend({ revision: z.coerce.number().int().min(1) }),
    body: z.object({ reason: reasonOrNone }),
    answer: shape.savedPolicy,
    run: (context, { params, body }) =>
      context.tx(async (tx) => {
        const policy = await thePolicy(tx, params.policyId);
        const earlier = (await revisionsOf(tx, policy.id)).find((one) => one.revision === params.revision);
        if (!earlier) throw notFound();
        const why = body.reason ?? `back to revision ${earlier.revision}`;
        return save(context, tx, nextRevision(policy, context.who, earlier), why);
      }),
  }),
  operation({
    id: "exportPolicy",
    method: "GET",
    path: "/policies/{policyId}/file",
    summary: "Export a policy for another client or console. Depots are named.",
    caller: "look",
    params: policyParam,
    answer: z.object({
      format: z.literal("deep-keep-policy"),
      version: z.number(),
      name: z.string(),
      clauses: z.object({
        what: whatClause.optional(),
        when: whenClause.optional(),
        howLong: howLongClause.optional(),
        conduct: conductClause.optional(),
        notices: noticesClause.optional(),
        where: z
          .object({
            depot: z.string(),
            beside: shape.list(z.string()),
            carryTo: shape.list(z.string()),
            atOnce: z.number(),
            whenAway: z.enum(["wait", "others"]),
          })
          .optional(),
      }),
      rule: groupRule.nullable(),
      $schema: z.string().optional(),
    }),
    run: (context, { params }) =>
      context.tx(async (tx) => {
        const policy = await thePolicy(tx, params.policyId);
        const depots = new Map((await listDepots(tx)).map((depot) => [depot.id, depot.name]));
        const called = (id: string) => depots.get(id) ?? id;
        const { where, ...others } = policy.clauses;
        const file: PolicyFile = {
          format: POLICY_FORMAT,
          version: POLICY_VERSION,
          name: policy.name,
          clauses: {
            ...others,
            ...(where
              ? {
                  where: {
                    depot: called(where.depotId),
                    beside: where.beside.map(called),
                    carryTo: where.carryTo.map(called),
                    atOnce: where.atOnce,
                    whenAway: where.whenAway,
                  },
                }
              : {}),
          },
          rule: policy.rule,
        };
        return file;
      }),
  }),
  operation({
    id: "importPolicy",
    method: "POST",
    path: "/clients/{clientId}/policies/import",
    summary: "Create a policy of a client from an exported file. Depots are found by name.",
    caller: "work",
    status: 201,
    params: clientParam,
    body: policyFile,
    upgraded: upgradedFile,
    answer: shape.savedPolicy,
    run: (context, { params, body }) =>
      context.tx(async (tx) => {
        if (!(await clientById(tx, params.clientId))) throw notFound();
        const depots = new Map((await listDepots(tx)).map((depot) => [depot.name.toLowerCase(), depot.id]));
        const found = (field: string, called: string): string => {
          const id = depots.get(called.toLowerCase());
          if (!id) throw invalid(`clauses.where.${field}`, `There is no depot called “${called}” here.`);
          return id;
        };
        const { where, ...others } = body.clauses;
        const values = clauses.parse({
          ...others,
          ...(where
            ? {
                where: {
                  depotId: found("depot", where.depot),
                  beside: where.beside.map((one, i) => found(`beside.${i}`, one)),
                  carryTo: where.carryTo.map((one, i) => found(`carryTo.${i}`, one)),
                  atOnce: where.atOnce,
                  whenAway: where.whenAway,
                },
              }
            : {}),
        });
        const start = fresh(context, { level: "group", name: body.name, clientId: params.clientId });
        const wished = { name: body.name, clauses: values, pins: [], rule: body.rule };
        return save(context, tx, nextRevision(start, context.who, wished), "from a file");
      }),
  }),
  operation({
    id: "policySchema",
    method: "GET",
    path: "/policy-schema.json",
    summary: "The JSON Schema of an exported policy.",
    caller: "person",
    answer: z.record(z.string(), z.unknown()),
    run: async () => z.toJSONSchema(policyFile, { io: "input" }),
  }),
  operation({
    id: "consequences",
    method: "POST",
    path: "/policies/consequences",
    summary:
      "The consequences of clauses: next runs in both zones, space with its range, points kept and dropped, load by hour, advice. Nothing is saved.",
    caller: "work",
    body: z.object({
      clientId: uuid.nullable(),
      policyId: uuid.nullable().default(null),
      owner: ownerParam.nullable().default(null),
      clauses,
    }),
    answer: z.object({
      advice: shape.list(
        z.object({
          setAside: shape.setAsideAdvice.nullable(),
          key: z.enum(ADVICE_KEYS),
          text: z.string(),
        }),
      ),
      clientZone: z.string(),
      providerZone: z.string(),
      next: shape.list(shape.due),
      zonesDiffer: z.boolean(),
      sources: z.number(),
      spaceNow: z.number(),
      space: shape.list(shape.spaceAt).nullable(),
      points: shape.list(shape.inventedPoint),
      pointsAfterYear: z.number(),
      load: shape.list(z.object({ runs: z.number(), minutes: z.number(), bytes: z.number() })),
      restoreMinutes: z.number().nullable(),
    }),
    run: (context, { body }) =>
      context.tx(async (tx) => {
        const client = body.clientId ? await clientById(tx, body.clientId) : null;
        if (body.clientId && !client) throw notFound();
        const { owner } = body.owner ? await ownerOf(tx, body.owner) : { owner: null };
        const policy = body.policyId ? await thePolicy(tx, body.policyId) : null;
        const zone = (await readProvider(tx))?.zone ?? "UTC";
        const facts = await factsFor(tx, {
          level: owner?.level ?? "group",
          policyId: policy?.id ?? null,
          clientId: client?.id ?? null,
          siteId: owner?.siteId ?? null,
          sourceId: owner?.sourceId ?? null,
        });
        const key = client && (await clientKey(tx, client.id));
        const there = policy ?? (owner && (await policyOfOwner(tx, owner)));
        const aside = there ? await adviceSetAside(tx, there.id) : [];
        const found = consequencesOf({
          ...facts,
          clauses: body.clauses,
          client: client && {
            zone: client.zone,
            region: client.region,
            keyConfirmed: Boolean(key?.confirmedAt && !key.destroyedAt),
          },
          providerZone: zone,
          now: context.who.at,
        });
        return {
          ...found,
          advice: found.advice.map((one) => ({
            ...one,
            setAside: aside.find(({ advice }) => advice === one.key) ?? null,
          })),
          clientZone: client?.zone ?? zone,
          providerZone: zone,
        };
      }),
  }),
  operation({
    id: "dismissAdvice",
    method: "PUT",
    path: "/policies/{policyId}/advice/{advice}",
    summary: "Dismiss advice with a reason, which is recorded in the trail.",
    caller: "work",
    params: adviceParam,
    body: z.object({ reason: z.string().trim().min(3, "Enter a reason.").max(500) }),
    answer: z.object({ advice: shape.list(shape.setAsideAdvice) }),
    run: (context, { params, body }) =>
      context.tx(async (tx) => {
        const policy = await thePolicy(tx, params.policyId);
        await dismissAdvice(
          tx,
          {
            policyId: policy.id,
            advice: params.advice,
            reason: body.reason,
            setBy: context.who.actor,
            setAt: context.who.at,
          },
          policy.clientId,
        );
        await context.record(tx, policy.clientId, "dismissed advice", policy.name, {
          advice: params.advice,
          reason: body.reason,
        });
        return { advice: await adviceSetAside(tx, policy.id) };
      }),
  }),
  operation({
    id: "restoreAdvice",
    method: "DELETE",
    path: "/policies/{policyId}/advice/{advice}",
    summary: "Show dismissed advice again.",
    caller: "work",
    params: adviceParam,
    answer: z.object({ advice: shape.list(shape.setAsideAdvice) }),
    run: (context, { params }) =>
      context.tx(async (tx) => {
        const policy = await thePolicy(tx, params.policyId);
        if (await restoreAdvice(tx, policy.id, params.advice))
          await context.record(tx, policy.clientId, "restored advice", policy.name, {
            advice: params.advice,
          });
        return { advice: await adviceSetAside(tx, policy.id) };
      }),
  }),
  operation({
    id: "changeSource",
    method: "PATCH",
    path: "/sources/{sourceId}",
    summary: "Assign a policy to a source, tag it, or pause it.",
    caller: "work",
    params: sourceParam,
    body: z.object({
      policyId: uuid.nullable().optional(),
      paused: z.boolean().optional(),
      tags: z.array(name("a tag", 40)).max(20, "20 tags at most.").optional(),
    }),
    answer: z.object({ source: shape.source.nullable() }),
    run: (context, { params, body }) =>
      context.tx(async (tx) => {
        const source = await sourceById(tx, params.sourceId);
        if (!source) throw notFound();
        if (body.policyId !== undefined) {
          const policy = body.policyId ? await policyById(tx, body.policyId) : null;
          if (body.policyId && (policy?.level !== "group" || policy.clientId !== source.clientId))
            throw invalid("policyId", "This client has no such policy.");
          await assignPolicy(tx, source.id, policy?.id ?? null);
          await settleRules(tx, source.clientId, context.who.at);
          await context.record(tx, source.clientId, "assigned a policy", source.name, {
            policy: policy?.name ?? null,
          });
        }
        if (body.tags) {
          await setTags(tx, source.id, body.tags);
          await findGroups(tx, source.clientId, context.who.at);
          await context.record(tx, source.clientId, "tagged a source", source.name, { tags: body.tags });
        }
        if (body.paused !== undefined && body.paused !== source.paused) {
          await setPaused(tx, source.id, body.paused);
          await context.record(
            tx,
            source.clientId,
            body.paused ? "paused a source" : "resumed a source",
            source.name,
          );
        }
        await notify(tx, { kind: "source", clientId: source.clientId, id: source.id });
        return { source: await sourceById(tx, source.id) };
      }),
  }),
];

/** What is done when a second person agrees to keep points for a shorter time. */
export async function saveAgreedRules(context: Context, tx: Tx, request: Readonly<Record<string, unknown>>) {
  const wished = request.policy as Policy & { changedAt: string };
  const there = await policyById(tx, wished.id);
  if ((there?.revision ?? 0) !== wished.revision - 1)
    throw new Problem(
      "request.conflict",
      `“${wished.name}” was changed after the request. Review it and make a new request.`,
    );
  const policy = { ...wished, changedAt: context.who.at };
  await saveRules(tx, context.who, null, policy, "agreed by a second person", true);
  return { policyId: policy.id };
}
