import type { ClientId } from "@/core/ids";
import {
  type Cause,
  type DepotFacts,
  FULL_SHARE,
  findCauses,
  SILENT_HOURS,
  type SourceFacts,
} from "@/core/protection/causes";
import { keptShare, lastNights, type NightCell, nightOf, nightsTable } from "@/core/protection/nights";
import { type ProtectionState, STATES } from "@/core/protection/state";
import type { Tx } from "@/db/base/scope";
import { readProvider } from "@/db/clients/clients";
import { exceededContracts } from "@/db/clients/contracts";
import { fullGrants, listDepots, refusedLocks } from "@/db/depots/depots";
import { unsentSince } from "@/db/notices/notices";
import { damagedSources } from "@/db/runs/checks";
import { failedDrills } from "@/db/runs/drills";
import { nightCounts } from "@/db/runs/runs";
import { readInNeed, sourcesInNeed } from "@/db/sources/in-need";
import { type StandingFilter, stateCounts } from "@/db/sources/sources";

export interface NightRow {
  readonly clientId: ClientId;
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
  /** Those that may need somebody, with whatever a cause touches. */
  readonly sources: readonly SourceFacts[];
  readonly nights: readonly string[];
  readonly rows: readonly NightRow[];
  readonly lastNight: { readonly runs: number; readonly clean: number };
}

const NIGHTS = 14;
const HOUR_MS = 3_600_000;
/** So long a message that was given up is told of. */
const UNSENT_DAYS = 7;

/** Watch: counts by state, what needs somebody, and the nights; all from what is there. */
export async function computeStanding(tx: Tx, filter: StandingFilter, now: Date): Promise<Standing> {
  const counted = await stateCounts(tx, filter, now);
  const counts = Object.fromEntries(STATES.map((state) => [state, 0])) as Record<ProtectionState, number>;
  for (const row of counted) for (const state of STATES) counts[state] += row.counts[state];
  const clients = new Map(counted.map((row) => [row.clientId, row]));
  const full = await fullDepots(tx, clients);
  const damages = await damagedSources(tx, filter.clientId ?? null);
  const drills = await failedDrills(tx, filter.clientId ?? null);
  const also = {
    silentSince: new Date(now.getTime() - SILENT_HOURS * HOUR_MS),
    sourceIds: [...damages, ...drills].map((one) => one.sourceId),
    depots: full,
  };
  const clientNames = new Map(counted.map((row) => [row.clientId, row.clientName]));
  // of a site or a source no message is
  const unsent =
    filter.siteId || filter.sourceId
      ? null
      : await unsentSince(tx, filter.clientId ?? null, new Date(now.getTime() - UNSENT_DAYS * 24 * HOUR_MS));
  const zone = (await readProvider(tx))?.zone ?? "UTC";
  const locks = filter.siteId || filter.sourceId ? [] : await refusedLocks(tx, filter.clientId ?? null);
  const contracts =
    filter.siteId || filter.sourceId ? [] : await exceededContracts(tx, filter.clientId ?? null);
  const nights = lastNights(now, zone, NIGHTS);
  const read = await readInNeed(tx, filter, now, also, clientNames);
  // the database counts nights while what was read is taken apart
  const counting = nightCounts(tx, filter, new Date(now.getTime() - (NIGHTS + 1) * 24 * HOUR_MS));
  counting.catch(() => {});
  const sources = sourcesInNeed(read);
  const depots: DepotFacts[] = full.flatMap(({ clientId, ...depot }) => {
    const sourceIds = sources
      .filter(
        (source) =>
          source.depotId === depot.depotId &&
          !source.gone &&
          (clientId === null || source.clientId === clientId),
      )
      .map((source) => source.id);
    return sourceIds.length ? { ...depot, sourceIds } : [];
  });
  const causes = findCauses(sources, depots, now, { damages, unsent, drills, locks, contracts });
  const runs = await counting;
  const table = nightsTable(runs);
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
  const lastNight = nights.indexOf(nightOf(new Date(now.getTime() - 12 * HOUR_MS), zone));
  const last = rows.map((row) => row.cells[lastNight]).filter((cell) => cell !== null && cell !== undefined);
  return {
    at: now,
    total: Object.values(counts).reduce((sum, count) => sum + count, 0),
    counts,
    causes,
    sources,
    nights,
    rows,
    lastNight: {
      runs: last.reduce((sum, cell) => sum + Object.values(cell).reduce((a, b) => a + b, 0), 0),
      clean: last.reduce((sum, cell) => sum + cell.clean, 0),
    },
  };
}

/** Depots that are nearly full, and clients' shares of depots that are: those alone are told of. */
async function fullDepots(tx: Tx, clients: ReadonlyMap<string, { readonly clientName: string }>) {
  const all = await listDepots(tx);
  const nameOf = new Map(all.map((depot) => [depot.id, depot.name]));
  const whole = all
    .filter((depot) => depot.capacityBytes !== null && depot.usedBytes >= depot.capacityBytes * FULL_SHARE)
    .map((depot) => ({
      id: depot.id,
      depotId: depot.id,
      clientId: null,
      name: depot.name,
      capacity: depot.capacityBytes!,
      used: depot.usedBytes,
    }));
  const shares = (await fullGrants(tx, FULL_SHARE)).flatMap((grant) => {
    const client = clients.get(grant.clientId);
    if (!client) return [];
    return {
      id: `${grant.depotId}:${grant.clientId}`,
      depotId: grant.depotId,
      clientId: grant.clientId,
      name: `${client.clientName}’s share of ${nameOf.get(grant.depotId)}`,
      capacity: grant.quotaBytes,
      used: grant.usedBytes,
    };
  });
  return [...whole, ...shares];
}
