import type { DepotId, RunId } from "@/core/ids";
import type { DirectWay } from "@/core/protocol/agent";
import type { Depot } from "@/db/depots/depots";
import { packExists } from "@/db/points/chunks";
import { announceObject } from "@/db/runs/pending-objects";
import type { Services } from "@/server/base/services";
import { packName } from "@/store/packs/layout";
import type { LeavingPlace } from "@/store/places/place";
import { type Executor, machineScope, packOfRestore, runOf } from "./agent-desk";
import { lockDay } from "./lock-day";
import { targetsOf } from "./run-depots";

/** Ways on which a machine reaches a depot itself, past the console. */

/** The way to one object; null for a depot that is reached through the console. */
async function wayTo(
  services: Services,
  depot: Depot,
  name: string,
  leave: (place: LeavingPlace) => Promise<{ url: string; headers: Readonly<Record<string, string>> }>,
): Promise<DirectWay | null> {
  if (depot.direct === null) return null;
  if (depot.kind !== "s3") return { kind: "path", depotId: depot.id, path: depot.direct, name };
  const { url, headers } = await leave(services.places.of(depot) as LeavingPlace);
  return { kind: "presigned", depotId: depot.id, url, headers: { ...headers } };
}

/** The ways for a pack into the depots of a run that lack it. */
export async function waysToPut(
  services: Services,
  executor: Executor,
  runId: RunId,
  packId: Buffer,
): Promise<DirectWay[]> {
  const lacking = await services.db.withScope(machineScope(executor), async (tx) => {
    const found = [];
    for (const target of await targetsOf(tx, await runOf(tx, executor, runId)))
      if (target.depot.direct !== null && !(await packExists(tx, target.grant.spaceId, packId))) {
        found.push(target);
        const pending = { spaceId: target.grant.spaceId, object: "pack", id: packId } as const;
        await announceObject(tx, pending, executor.clientId, { runId }, services.now());
      }
    return found;
  });
  const ways = await Promise.all(
    lacking.map(({ depot, grant }) => {
      const name = packName(grant.spaceId, packId.toString("hex"));
      return wayTo(services, depot, name, (place) => place.leaveToPut(name, lockDay(grant, services.now())));
    }),
  );
  return ways.filter((way) => way !== null);
}

/** The size of a pack for a machine's own restore, and the way to it if there is one. */
export async function wayToRead(
  services: Services,
  executor: Executor,
  runId: RunId,
  depotId: DepotId,
  packId: string,
): Promise<{ size: number; way: DirectWay | null }> {
  const { grant, depot } = await packOfRestore(services, executor, runId, depotId, packId);
  const name = packName(grant.spaceId, packId);
  return {
    size: await services.places.of(depot).size(name),
    way: await wayTo(services, depot, name, (place) => place.leaveToRead(name)),
  };
}
