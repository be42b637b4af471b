import { CLAUSE_NAMES, type ClauseName, type GroupRule, ruleSentence } from "@/core/policy/cascade";
import { type Clauses, clauseSentence } from "@/core/policy/clauses";
import { whereSentence } from "@/core/policy/where";
import { keepsLess } from "@/core/retention/shorter";
import { clientById } from "@/db/clients";
import { depotById, grantOf, listDepots } from "@/db/depots";
import { notify } from "@/db/notify";
import type { Person } from "@/db/people";
import { listPolicies, type Policy, savePolicy } from "@/db/policies";
import { enqueue } from "@/db/queue";
import type { Tx } from "@/db/scope";
import { askConsent } from "./consents";
import { invalid } from "./problem";
import { type Effect, effectsOf, findGroups, settleAllRules, settleRules } from "./rules";
import { record, type Who } from "./who";

/** Throws a problem of the field for a depot that is not there, or not granted to the client whose rules these are. */
async function checkDepots(tx: Tx, clientId: string | null, clauses: Partial<Clauses>): Promise<void> {
  const { where } = clauses;
  if (!where) return;
  const wanted: readonly (readonly [field: string, depotId: string])[] = [
    ["depotId", where.depotId],
    ...where.beside.map((id, i) => [`beside.${i}`, id] as const),
    ...where.carryTo.map((id, i) => [`carryTo.${i}`, id] as const),
  ];
  for (const [field, depotId] of wanted) {
    const depot = await depotById(tx, depotId);
    if (!depot) throw invalid(`clauses.where.${field}`, "This depot is not there.");
    if (clientId && !(await grantOf(tx, depotId, clientId)))
      throw invalid(
        `clauses.where.${field}`,
        `${depot.name} is not granted to ${(await clientById(tx, clientId))?.name}. Grant it in the view Depots first.`,
      );
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
        ? whereSentence(clauses.where!, (id) => names.get(id) ?? "a depot taken away")
        : clauseSentence(clause, clauses);
    return [{ clause, text }];
  });
}

/** Sources for which the change would drop points that are kept today. */
export const shortened = (effects: readonly Effect[], now: Date): Effect[] =>
  effects.filter((effect) =>
    effect.changes.some(
      ({ clause, before, after }) =>
        clause === "howLong" &&
        before !== undefined &&
        after !== undefined &&
        keepsLess(before as Clauses["howLong"], after as Clauses["howLong"], now),
    ),
  );

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
  const effects = await effectsOf(tx, policy);
  const shorter = shortened(effects, who.at);
  if (shorter.length && !agreed && person) {
    const consentId = await askConsent(tx, who, person, {
      clientId: shorter[0]!.clientId,
      kind: "shorten-retention",
      subject: `points of ${shorter.length === 1 ? shorter[0]!.sourceName : `${shorter.length} sources`}, by “${policy.name}”`,
      request: { policy: { ...policy, changedAt: policy.changedAt.toISOString() } },
      reason: reason ?? "no reason was given",
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
    policy.revision === 1 ? "made a policy" : "changed a policy",
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
