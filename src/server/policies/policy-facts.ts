import { stat } from "node:fs/promises";
import { LRUCache } from "lru-cache";
import type { DepotFacts, SourceFacts } from "@/core/consequences/facts";
import type { ClientId, PolicyId, SiteId, SourceId } from "@/core/ids";
import type { Level } from "@/core/policy/cascade";
import type { Tx } from "@/db/base/scope";
import { type Depot, grantOf, listDepots } from "@/db/depots/depots";
import { factsOfSources } from "@/db/sources/facts";

/** What consequences are computed from. Kept for a moment, so that a keystroke costs a computation and no query. */

export interface FactsOwner {
  readonly level: Level;
  readonly policyId: PolicyId | null;
  readonly clientId: ClientId | null;
  readonly siteId: SiteId | null;
  readonly sourceId: SourceId | null;
}

interface Facts {
  readonly sources: readonly SourceFacts[];
  readonly depots: readonly DepotFacts[];
}
const kept = new LRUCache<string, Facts>({ max: 50, ttl: 30_000 });

export async function factsFor(tx: Tx, owner: FactsOwner): Promise<Facts> {
  const key = JSON.stringify(owner);
  const there = kept.get(key);
  if (there) return there;
  const facts = {
    sources: await factsOfSources(tx, owner.level, owner),
    depots: await depotFacts(tx, owner.clientId),
  };
  kept.set(key, facts);
  return facts;
}

async function depotFacts(tx: Tx, clientId: ClientId | null): Promise<DepotFacts[]> {
  const facts: DepotFacts[] = [];
  for (const depot of await listDepots(tx)) {
    const grant = clientId ? await grantOf(tx, depot.id, clientId) : null;
    facts.push({
      id: depot.id,
      name: depot.name,
      region: depot.region,
      ...(await houseOf(depot)),
      quotaBytes: grant?.quotaBytes ?? null,
      usedBytes: grant?.usedBytes ?? 0,
    });
  }
  return facts;
}

/** The disk of a folder, the address of a bucket: what stands or falls together. */
async function houseOf(depot: Depot): Promise<Pick<DepotFacts, "house" | "onSystemVolume">> {
  if (depot.kind === "s3" && "endpoint" in depot.settings)
    return { house: new URL(depot.settings.endpoint).host, onSystemVolume: false };
  const [found, system] = await Promise.all(
    [depot.path, "/"].map((path) =>
      stat(path).then(
        ({ dev }) => dev,
        () => null,
      ),
    ),
  );
  return { house: `disk ${found ?? depot.path}`, onSystemVolume: found !== null && found === system };
}
