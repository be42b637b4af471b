import { type Cause, type DepotFacts, findCauses, type SourceFacts } from "@/core/protection/causes";
import { keptShare, lastNights, type NightCell, nightOf, nightsTable } from "@/core/protection/nights";
import { type ProtectionState, protectionState, STATES } from "@/core/protection/state";
import { damagedSources } from "@/db/checks";
import { readProvider } from "@/db/clients";
import { listDepots, listGrants } from "@/db/depots";
import { nightCounts } from "@/db/runs";
import type { Tx } from "@/db/scope";
import { type SourceStanding, type StandingFilter, sourceStandings } from "@/db/sources";

export type SourceWithState = SourceStanding & { readonly state: ProtectionState };

/** Sources in scope with their state at a moment. */
export async function sourcesWithState(
  tx: Tx,
  filter: StandingFilter,
  now: Date,
): Promise<SourceWithState[]> {
  return (await sourceStandings(tx, filter, now)).map((source) => ({
    ...source,
    state: protectionState({ ...source, paused: source.paused || source.gone }, now),
  }));
}

const factsOf = (source: SourceWithState): SourceFacts => ({
  ...source,
  hasPolicy: source.policyId !== null,
});

export interface NightRow {
  readonly clientId: string;
  readonly clientName: string;
  readonly clientSlug: string;
  readonly cells: readonly (NightCell | null)[];
  readonly share: number | null;
}

export interface Standing {
  readonly at: Date;
  readonly total: number;
  readonly counts: Record<ProtectionState, number>;
  readonly causes: readonly Cause[];
  readonly sources: readonly SourceWithState[];
  readonly nights: readonly string[];
  readonly rows: readonly NightRow[];
  readonly lastNight: { readonly runs: number; readonly clean: number };
}

const NIGHTS = 14;

/** Watch: counts by state, what needs somebody, and the nights; all from what is there. */
export async function computeStanding(tx: Tx, filter: StandingFilter, now: Date): Promise<Standing> {
  const sources = await sourcesWithState(tx, filter, now);
  const zone = (await readProvider(tx))?.zone ?? "UTC";
  const all = await listDepots(tx);
  const byDepot = new Map<string, SourceWithState[]>();
  for (const source of sources) {
    if (source.gone || !source.depotId) continue;
    const here = byDepot.get(source.depotId) ?? [];
    byDepot.set(source.depotId, here);
    here.push(source);
  }
  const whole: DepotFacts[] = all
    .filter((depot) => depot.capacityBytes !== null && byDepot.has(depot.id))
    .map((depot) => ({
      id: depot.id,
      depotId: depot.id,
      name: depot.name,
      capacity: depot.capacityBytes!,
      used: depot.usedBytes,
      sourceIds: byDepot.get(depot.id)!.map((source) => source.id),
    }));
  const nameOf = new Map(all.map((depot) => [depot.id, depot.name]));
  const shares: DepotFacts[] = (await listGrants(tx)).flatMap((grant) => {
    // only shares that are nearly full are told of: no use gathering the sources of the others
    if (grant.usedBytes < grant.quotaBytes * 0.85) return [];
    const own = (byDepot.get(grant.depotId) ?? []).filter((source) => source.clientId === grant.clientId);
    if (!own[0]) return [];
    return {
      id: `${grant.depotId}:${grant.clientId}`,
      depotId: grant.depotId,
      name: `${own[0].clientName}’s share of ${nameOf.get(grant.depotId)}`,
      capacity: grant.quotaBytes,
      used: grant.usedBytes,
      sourceIds: own.map((source) => source.id),
    };
  });
  const depots = [...whole, ...shares];
  const counts = Object.fromEntries(STATES.map((state) => [state, 0])) as Record<ProtectionState, number>;
  for (const source of sources) counts[source.state] += 1;
  const nights = lastNights(now, zone, NIGHTS);
  const runs = await nightCounts(tx, filter, new Date(now.getTime() - (NIGHTS + 1) * 86_400_000));
  const table = nightsTable(runs);
  const clients = new Map(sources.map((source) => [source.clientId, source]));
  const rows = [...clients.values()].map(({ clientId, clientName, clientSlug }) => {
    const row = table.get(clientId);
    const cells = nights.map((night) => row?.get(night) ?? null);
    return {
      clientId,
      clientName,
      clientSlug,
      cells,
      share: keptShare(cells.filter((cell) => cell !== null)),
    };
  });
  // from noon on the newest column is tonight; last night is the one before
  const lastNight = nights.indexOf(nightOf(new Date(now.getTime() - 43_200_000), zone));
  const last = rows.map((row) => row.cells[lastNight]).filter((cell) => cell !== null && cell !== undefined);
  return {
    at: now,
    total: sources.length,
    counts,
    causes: findCauses(sources.map(factsOf), depots, now, await damagedSources(tx, filter.clientId ?? null)),
    sources,
    nights,
    rows,
    lastNight: {
      runs: last.reduce((sum, cell) => sum + Object.values(cell).reduce((a, b) => a + b, 0), 0),
      clean: last.reduce((sum, cell) => sum + cell.clean, 0),
    },
  };
}
