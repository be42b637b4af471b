import type { ClientId, SourceId } from "@/core/ids";
import {
  type ClauseChange,
  changesBetween,
  complete,
  type InForce,
  inForce,
  type Layer,
  ruleTakes,
  sameValue,
} from "@/core/policy/cascade";
import type { Clauses } from "@/core/policy/clauses";
import { nextRuns } from "@/core/schedule/schedule";
import { notify } from "@/db/base/notify";
import type { Tx } from "@/db/base/scope";
import { clientById, listClients } from "@/db/clients/clients";
import { layersOfClient, type Policy } from "@/db/sources/policies";
import {
  assignPolicy,
  type PlacedSource,
  placedSources,
  type Source,
  setRules,
  sourcesOfClient,
} from "@/db/sources/sources";

/** What is in force for sources: worked out from all levels whenever one of them changes, and kept with each source. */

/** When a source runs next under its rules. */
export const nextDue = (
  source: Pick<Source, "id" | "lastDueAt">,
  clauses: Pick<Clauses, "when">,
  zone: string,
  after: Date,
): Date | null =>
  nextRuns(clauses.when, zone, after, 1, { anchor: source.lastDueAt, sourceId: source.id })[0]?.at ?? null;

/** The layers that touch one source. */
const layersFor = (source: PlacedSource, layers: readonly Policy[]): Layer[] =>
  layers.filter(
    (layer) =>
      layer.level === "provider" ||
      layer.level === "client" ||
      (layer.level === "site" && layer.siteId === source.siteId) ||
      (layer.level === "group" && layer.id === source.policyId) ||
      (layer.level === "source" && layer.sourceId === source.id),
  );

/** What is in force for one source of these layers; without a group nobody looks after it, and nothing is. */
const forceOf = (source: PlacedSource, layers: readonly Policy[]): InForce =>
  source.policyId ? inForce(layersFor(source, layers), source.kind) : inForce([]);

/** Works out anew what is in force for a client's sources. Those whose schedule changed are planned anew. */
export async function settleRules(tx: Tx, clientId: ClientId, now: Date): Promise<number> {
  const client = await clientById(tx, clientId);
  if (!client) return 0;
  const layers = await layersOfClient(tx, clientId);
  let changed = 0;
  for (const source of await sourcesOfClient(tx, clientId)) {
    const found = forceOf(source, layers);
    const rules = complete(found);
    const planned =
      sameValue(rules?.when, source.rules?.when) && (source.nextDueAt !== null || rules === null);
    if (planned && sameValue(rules, source.rules) && sameValue(found.origins, source.origins)) continue;
    const due = planned ? source.nextDueAt : rules ? nextDue(source, rules, client.zone, now) : null;
    await setRules(tx, source.id, rules, found.origins, due);
    await notify(tx, { kind: "source", clientId, id: source.id });
    changed += 1;
  }
  return changed;
}

/** The same for all clients: after a change of the provider's own rules. */
export async function settleAllRules(tx: Tx, now: Date): Promise<void> {
  for (const client of await listClients(tx)) await settleRules(tx, client.id, now);
}

/** Puts sources that nobody looks after into the first group whose rule takes them; then works out what is in force. */
export async function findGroups(tx: Tx, clientId: ClientId, now: Date): Promise<void> {
  const layers = await layersOfClient(tx, clientId);
  const groups = layers
    .filter((layer) => layer.level === "group" && layer.rule)
    .sort((a, b) => a.name.localeCompare(b.name));
  for (const source of await sourcesOfClient(tx, clientId)) {
    if (source.policyId) continue;
    const group = groups.find(
      (candidate) =>
        ruleTakes(candidate.rule!, source) &&
        // it applies to the kinds that its What names
        forceOf({ ...source, policyId: candidate.id }, layers).clauses.what !== undefined,
    );
    if (group) await assignPolicy(tx, source.id, group.id);
  }
  await settleRules(tx, clientId, now);
}

/** What a change of rules would do to one source. */
export interface Effect {
  readonly sourceId: SourceId;
  readonly sourceName: string;
  readonly clientId: ClientId;
  readonly clientName: string;
  readonly changes: readonly ClauseChange[];
  /** A wider level pins the clause, so what is given here counts for nothing. */
  readonly overruled: readonly string[];
  /** It would have no complete rules, so nothing of it would run. */
  readonly stops: boolean;
}

/** What saving these rules would change, for which sources; nothing is saved. Only sources that something changes for. */
export async function effectsOf(tx: Tx, wished: Policy): Promise<Effect[]> {
  const clients = wished.clientId ? [await clientById(tx, wished.clientId)] : await listClients(tx);
  const effects: Effect[] = [];
  for (const client of clients) {
    if (!client) continue;
    const layers = await layersOfClient(tx, client.id);
    const after = [...layers.filter((layer) => layer.id !== wished.id), wished];
    const known = new Map<string, ChangeForSource>();
    for (const source of await placedSources(tx, client.id)) {
      if (!source.policyId) continue;
      const touching = layersFor(source, after);
      if (!touching.includes(wished)) continue;
      // sources that the same layers touch change alike: that is worked out once
      const key = [source.kind, ...touching.map((layer) => layer.id)].join();
      let found = known.get(key);
      if (!found) {
        found = changeFor(source, layers, after, wished);
        known.set(key, found);
      }
      if (found.changes.length || found.overruled.length)
        effects.push({
          sourceId: source.id,
          sourceName: source.name,
          clientId: client.id,
          clientName: client.name,
          ...found,
        });
    }
  }
  return effects;
}

type ChangeForSource = Pick<Effect, "changes" | "overruled" | "stops">;
function changeFor(
  source: PlacedSource,
  before: readonly Policy[],
  after: readonly Policy[],
  wished: Policy,
): ChangeForSource {
  const then = forceOf(source, after);
  return {
    changes: changesBetween(forceOf(source, before), then),
    overruled: (Object.keys(wished.clauses) as (keyof Clauses)[]).filter((name) => {
      const origin = then.origins[name];
      return origin?.pinned && origin.layerId !== wished.id;
    }),
    stops: then.missing.length > 0,
  };
}
