import { randomUUID } from "node:crypto";
import { z } from "zod";
import { keyStateOf } from "@/core/keysheet/wrapping";
import {
  clauseSentences,
  clausesSchema,
  consequencesOf,
  howLongClause,
  whenClause,
} from "@/core/policy/clauses";
import { whereSentence } from "@/core/policy/where";
import { clientById, readProvider } from "@/db/clients";
import { depotById, grantOf } from "@/db/depots";
import { clientKey } from "@/db/keys";
import { notify } from "@/db/notify";
import { listPolicies, policyById, savePolicy } from "@/db/policies";
import type { Tx } from "@/db/scope";
import { assignPolicy, setNextDue, setPaused, sourceById, sourcesOfPolicy } from "@/db/sources";
import { askCarry } from "@/runs/carry-request";
import { nextDue, zoneOf } from "@/runs/request";
import { type Context, operation } from "@/server/api/operation";
import { invalid, notFound } from "@/server/problem";
import { name, policyParam, scopeQuery, sourceParam, uuid } from "./ids";

const policyBody = z.object({ name: name("a name for the policy"), clauses: clausesSchema });

/** Saves a policy and plans its sources anew. */
async function store(
  context: Context,
  tx: Tx,
  policy: { id: string; clientId: string; revision: number },
  body: z.infer<typeof policyBody>,
) {
  const client = (await clientById(tx, policy.clientId))!;
  const others = await listPolicies(tx, client.id);
  if (
    others.some((other) => other.id !== policy.id && other.name.toLowerCase() === body.name.toLowerCase())
  ) {
    throw invalid("name", `${client.name} has a policy of this name.`);
  }
  const { where } = body.clauses;
  const names = new Map<string, string>();
  const wanted: readonly (readonly [field: string, depotId: string])[] = [
    ["depotId", where.depotId],
    ...where.beside.map((id, i) => [`beside.${i}`, id] as const),
    ...where.carryTo.map((id, i) => [`carryTo.${i}`, id] as const),
  ];
  for (const [field, depotId] of wanted) {
    const depot = await depotById(tx, depotId);
    if (!depot) throw invalid(`clauses.where.${field}`, "This depot is not there.");
    if (!(await grantOf(tx, depotId, client.id)))
      throw invalid(
        `clauses.where.${field}`,
        `${depot.name} is not granted to ${client.name}. Grant it in the view Depots first.`,
      );
    names.set(depotId, depot.name);
  }
  for (const toDepot of where.carryTo)
    await askCarry(tx, { clientId: client.id, fromDepot: where.depotId, toDepot });
  const saved = { ...policy, ...body, changedAt: context.who.at, changedBy: context.who.actor };
  await savePolicy(tx, saved);
  for (const source of await sourcesOfPolicy(tx, policy.id)) {
    await setNextDue(tx, source.id, nextDue(source, body.clauses, client.zone, context.who.at));
  }
  const key = await clientKey(tx, client.id);
  const sentences = clauseSentences(
    body.clauses,
    whereSentence(where, (id) => names.get(id) ?? ""),
    keyStateOf(key),
  );
  await context.record(
    tx,
    client.id,
    policy.revision === 1 ? "made a policy" : "changed a policy",
    body.name,
    { revision: policy.revision, clauses: sentences.map((one) => `${one.clause}: ${one.text}`) },
  );
  await notify(tx, { kind: "policy", clientId: client.id, id: policy.id });
  return { policy: saved, sentences };
}

export const policies = [
  operation({
    id: "listPolicies",
    method: "GET",
    path: "/policies",
    summary: "Policies, of one client or of all.",
    caller: "technician",
    query: scopeQuery.pick({ client: true }),
    run: (context, { query }) =>
      context.tx(async (tx) => ({ policies: await listPolicies(tx, query.client ?? null) })),
  }),
  operation({
    id: "makePolicy",
    method: "POST",
    path: "/policies",
    summary: "Make a policy for a client.",
    caller: "technician",
    status: 201,
    body: policyBody.extend({ clientId: uuid }),
    run: (context, { body }) =>
      context.tx(async (tx) => {
        const { clientId, ...rest } = body;
        if (!(await clientById(tx, clientId))) throw invalid("clientId", "This client is not there.");
        return store(context, tx, { id: randomUUID(), clientId, revision: 1 }, rest);
      }),
  }),
  operation({
    id: "readPolicy",
    method: "GET",
    path: "/policies/{policyId}",
    summary: "One policy.",
    caller: "technician",
    params: policyParam,
    run: (context, { params }) =>
      context.tx(async (tx) => {
        const policy = await policyById(tx, params.policyId);
        if (!policy) throw notFound();
        return { policy };
      }),
  }),
  operation({
    id: "changePolicy",
    method: "PUT",
    path: "/policies/{policyId}",
    summary: "Change a policy; its sources are planned anew.",
    caller: "technician",
    params: policyParam,
    body: policyBody.extend({ revision: z.number().int() }),
    run: (context, { params, body }) =>
      context.tx(async (tx) => {
        const policy = await policyById(tx, params.policyId);
        if (!policy) throw notFound();
        const { revision, ...rest } = body;
        if (revision !== policy.revision)
          throw invalid(
            "revision",
            `${policy.changedBy} changed this policy meanwhile. Reload it, then make your change again.`,
          );
        return store(
          context,
          tx,
          { id: policy.id, clientId: policy.clientId, revision: policy.revision + 1 },
          rest,
        );
      }),
  }),
  operation({
    id: "consequences",
    method: "POST",
    path: "/policies/consequences",
    summary: "What would follow from clauses: the next runs in both zones, and advice.",
    caller: "technician",
    body: z.object({ clientId: uuid, when: whenClause, howLong: howLongClause }),
    run: (context, { body }) =>
      context.tx(async (tx) => {
        const client = await clientById(tx, body.clientId);
        if (!client) throw notFound();
        const provider = await readProvider(tx);
        const zone = provider?.zone ?? "UTC";
        return {
          ...consequencesOf(body, client.zone, zone, context.who.at),
          clientZone: client.zone,
          providerZone: zone,
        };
      }),
  }),
  operation({
    id: "changeSource",
    method: "PATCH",
    path: "/sources/{sourceId}",
    summary: "Assign a policy to a source, or pause it.",
    caller: "technician",
    params: sourceParam,
    body: z.object({ policyId: uuid.nullable().optional(), paused: z.boolean().optional() }),
    run: (context, { params, body }) =>
      context.tx(async (tx) => {
        const source = await sourceById(tx, params.sourceId);
        if (!source) throw notFound();
        if (body.policyId !== undefined) {
          const policy = body.policyId ? await policyById(tx, body.policyId) : null;
          if (body.policyId && (!policy || policy.clientId !== source.clientId))
            throw invalid("policyId", "This client has no such policy.");
          const due = policy
            ? nextDue(source, policy.clauses, await zoneOf(tx, source.clientId), context.who.at)
            : null;
          await assignPolicy(tx, source.id, policy?.id ?? null, due);
          await context.record(tx, source.clientId, "assigned a policy", source.name, {
            policy: policy?.name ?? null,
          });
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
