import type { ClientId, DepotId } from "@/core/ids";
import { CLAUSE_NAMES, type ClauseName, type GroupRule, inForce, ruleSentence } from "@/core/policy/cascade";
import { type Clauses, clauseSentence } from "@/core/policy/clauses";
import { whereSentence } from "@/core/policy/where";
import { keepsLess } from "@/core/retention/shorter";
import { nextRuns } from "@/core/schedule/schedule";
import type { Person } from "@/db/access/people";
import { notify } from "@/db/base/notify";
import { enqueue } from "@/db/base/queue";
import type { Tx } from "@/db/base/scope";
import { clientById } from "@/db/clients/clients";
import { depotById, grantOf, listDepots } from "@/db/depots/depots";
import { webhookById } from "@/db/notices/notices";
import { layersOfClient, listPolicies, type Policy, savePolicy } from "@/db/sources/policies";
import { askConsent } from "../access/consents";
import { type Effect, effectsOf, findGroups, settleAllRules, settleRules } from "../access/rules";
import { record, type Who } from "../access/who";
import { invalid } from "../base/problem";

/** Throws a problem of the field for a depot that is not there, or not granted to the client whose rules these are. */
async function checkDepots(tx: Tx, clientId: ClientId | null, clauses: Partial<Clauses>): Promise<void> {
  const { where } = clauses;
  if (!where) return;
  const wanted: readonly (readonly [field: string, depotId: DepotId])[] = [
    ["depotId", where.depotId],
    ...where.beside.map((id, i) => [`beside.${i}`, id] as const),
    ...where.carryTo.map((id, i) => [`carryTo.${i}`, id] as const),
  ];
  for (const [field, depotId] of wanted) {
    const depot = await depotById(tx, depotId);
    if (!depot) throw invalid(`clauses.where.${field}`, "The depot was not found at this location.");
    if (clientId && !(await grantOf(tx, depotId, clientId)))
      throw invalid(
        `clauses.where.${field}`,
        `${depot.name} is not granted to ${(await clientById(tx, clientId))?.name}. Grant it in the view Depots first.`,
      );
  }
}

/** Throws a problem of the field for schedules that never fire, for policies in a circle, for webhooks that are not there. */
async function checkWhen(tx: Tx, policy: Policy, now: Date): Promise<void> {
  const { when, notices } = policy.clauses;
  for (const [i, id] of (notices?.webhooks ?? []).entries())
    if (!(await webhookById(tx, id)))
      throw invalid(`clauses.notices.webhooks.${i}`, "This webhook is not there.");
  if (!when) return;
  for (const [i, schedule] of when.schedules.entries())
    if (nextRuns({ ...when, schedules: [schedule] }, "UTC", now, 1, { anchor: now }).length === 0)
      throw invalid(
        `clauses.when.schedules.${i}.rule`,
        when.windows.length
          ? "This schedule never runs: none of its times is inside a window."
          : "This schedule never fires: there is no such day.",
      );
  if (!when.after) return;
  if (!policy.clientId)
    throw invalid("clauses.when.after", "A policy belongs to a client; rules for all cannot follow one.");
  const layers = await layersOfClient(tx, policy.clientId);
  const groups = layers.filter((layer) => layer.level === "group" && layer.id !== policy.id);
  if (policy.level === "group") groups.push(policy);
  if (!groups.some((group) => group.id === when.after))
    throw invalid("clauses.when.after", "This client has no such policy.");
  // what each follows, as it would be
  const wider = [...layers.filter((layer) => layer.id !== policy.id), policy].filter(
    (layer) => layer.level === "provider" || layer.level === "client",
  );
  const follows = new Map(
    groups.map((group) => [group.id, inForce([...wider, group]).clauses.when?.after ?? null]),
  );
  if (policy.level !== "group" && policy.level !== "client") return;
  for (const group of groups) {
    const chain = [group];
    for (let next = follows.get(group.id); next; next = follows.get(next)) {
      const one = groups.find((candidate) => candidate.id === next);
      if (!one) break;
      chain.push(one);
      if (one === group)
        throw invalid(
          "clauses.when.after",
          `These policies would wait for each other: ${chain.map((link) => link.name).join(" → ")}.`,
        );
      if (chain.length > groups.length) break;
    }
  }
}

/** Clauses as sentences, for the trail and for whoever agrees. */
export async function sentencesOf(
  tx: Tx,
  clauses: Partial<Clauses>,
): Promise<{ clause: ClauseName; text: string }[]> {
  const names = new Map((await listDepots(tx)).map((depot) => [depot.id, depot.name]));
  return CLAUSE_NAMES.flatMap((clause) => {
    const value = clauses[clause];
    if (value === undefined) return [];
    const text =
      clause === "where"
        ? whereSentence(clauses.where!, (id) => names.get(id) ?? "a removed depot")
        : clauseSentence(clause, clauses);
    return [{ clause, text }];
  });
}

/** Sources for which the change would drop points that are kept today. */
export function shortened(effects: readonly Effect[]): Effect[] {
  // most sources of a policy change from the same to the same: that is found out once
  const known = new Map<string, boolean>();
  const less = (before: Clauses["howLong"], after: Clauses["howLong"]): boolean => {
    const key = JSON.stringify([before, after]);
    let answer = known.get(key);
    if (answer === undefined) {
      answer = keepsLess(before, after);
      known.set(key, answer);
    }
    return answer;
  };
  return effects.filter((effect) =>
    effect.changes.some(
      ({ clause, before, after }) =>
        clause === "howLong" &&
        before !== undefined &&
        after !== undefined &&
        less(before as Clauses["howLong"], after as Clauses["howLong"]),
    ),
  );
}

export interface Saved {
  readonly policy: Policy | null;
  /** Set when a second person must agree first: then nothing is saved yet. */
  readonly consentId: string | null;
  readonly effects: readonly Effect[];
}

/**
 * Saves rules of any level, and works out anew what is in force below. Where points would be kept for a shorter time,
 * nothing is saved but a wish that a second person decides on. Throws problems of fields.
 */
export async function saveRules(
  tx: Tx,
  who: Who,
  person: Person | null,
  policy: Policy,
  reason: string | null,
  agreed = false,
): Promise<Saved> {
  if (policy.level === "group") {
    const others = await listPolicies(tx, policy.clientId);
    if (others.some((one) => one.id !== policy.id && one.name.toLowerCase() === policy.name.toLowerCase()))
      throw invalid("name", `${(await clientById(tx, policy.clientId!))?.name} has a policy of this name.`);
  }
  await checkDepots(tx, policy.clientId, policy.clauses);
  await checkWhen(tx, policy, who.at);
  const effects = await effectsOf(tx, policy);
  const shorter = shortened(effects);
  if (shorter.length && !agreed && person) {
    const consentId = await askConsent(tx, who, person, {
      clientId: shorter[0]!.clientId,
      kind: "shorten-retention",
      subject: `points of ${shorter.length === 1 ? shorter[0]!.sourceName : `${shorter.length} sources`}, by “${policy.name}”`,
      request: { policy: { ...policy, changedAt: policy.changedAt.toISOString() } },
      reason: reason ?? "no reason",
    });
    return { policy: null, consentId, effects };
  }
  await savePolicy(tx, policy, reason);
  if (policy.rule) await findGroups(tx, policy.clientId!, who.at);
  else if (policy.clientId) await settleRules(tx, policy.clientId, who.at);
  else await settleAllRules(tx, who.at);
  // what points now have to be carried elsewhere is carried
  if (effects.some((effect) => effect.changes.some((change) => change.clause === "where")))
    await enqueue(tx, "carries", {}, "carries");
  const sentences = await sentencesOf(tx, policy.clauses);
  await record(
    tx,
    who,
    policy.clientId,
    policy.revision === 1 ? "created a policy" : "changed a policy",
    policy.name,
    {
      level: policy.level,
      revision: policy.revision,
      clauses: sentences.map((one) => `${one.clause}: ${one.text}`),
      pins: policy.pins,
      rule: policy.rule && ruleSentence(policy.rule, (id) => id),
      reason,
      sources: effects.length,
    },
  );
  await notify(tx, { kind: "policy", clientId: policy.clientId, id: policy.id });
  return { policy, consentId: null, effects };
}

/** The next state of rules, as they are changed. */
export const nextRevision = (
  policy: Policy,
  who: Who,
  change: {
    readonly name?: string;
    readonly clauses: Partial<Clauses>;
    readonly pins: readonly ClauseName[];
    readonly rule?: GroupRule | null;
  },
): Policy => ({
  ...policy,
  name: change.name ?? policy.name,
  clauses: change.clauses,
  pins: change.pins.filter((pin) => change.clauses[pin] !== undefined),
  rule: policy.level === "group" ? (change.rule === undefined ? policy.rule : change.rule) : null,
  revision: policy.revision + 1,
  changedAt: who.at,
  changedBy: who.actor,
});
