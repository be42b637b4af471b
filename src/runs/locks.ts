import { CodedError } from "@/core/codes";
import type { ClientId, DepotId } from "@/core/ids";
import { clearLockRefused, depotById, grantOf, noteLockRefused } from "@/db/depots/depots";
import { locateChunks, notePackLock, packsLockedBefore } from "@/db/points/chunks";
import { pointsInSpace } from "@/db/points/points";
import type { Services } from "@/server/base/services";
import { packName } from "@/store/packs/layout";
import { Needed } from "@/store/tree/needed";

const AT_A_TIME = 2000;

/**
 * Lets a place keep every pack as long as the latest locked point that needs it: a point builds on packs of earlier runs,
 * whose own lock ends before. The database refuses to let go of them anyway; this holds against whoever has the place's
 * credentials. Returns how many packs are kept longer. Throws the code of a depot that cannot be used.
 */
export async function growLocks(services: Services, depotId: DepotId, clientId: ClientId): Promise<number> {
  const system = { role: "system" } as const;
  try {
    const grown = await grow(services, depotId, clientId);
    await services.db.withScope(system, (tx) => clearLockRefused(tx, depotId, clientId));
    return grown;
  } catch (error) {
    // Watch tells of it until it succeeds: the queue's next try is nothing that anybody sees. A depot that is not reached
    // has refused nothing
    if (
      error instanceof CodedError &&
      (error.code === "depot.lock-refused" || error.code === "depot.not-allowed")
    )
      await services.db.withScope(system, (tx) =>
        noteLockRefused(tx, depotId, clientId, error.message, services.now()),
      );
    throw error;
  }
}

async function grow(services: Services, depotId: DepotId, clientId: ClientId): Promise<number> {
  const system = { role: "system" } as const;
  const now = services.now();
  const found = await services.db.withScope(system, async (tx) => {
    const grant = await grantOf(tx, depotId, clientId);
    const depot = await depotById(tx, depotId);
    if (!grant || !depot) return null;
    const points = (await pointsInSpace(tx, depotId, clientId))
      .filter((point) => point.lockedUntil && point.lockedUntil > now && !point.damagedAt)
      .sort((a, b) => b.lockedUntil!.getTime() - a.lockedUntil!.getTime());
    return { grant, depot, points };
  });
  if (!found) return 0;
  const { grant, depot, points } = found;
  const place = services.places.of(depot);
  if (!place.extendLock) return 0;
  const reader = await services.spaces.reader(clientId, depotId);
  const seen = new Needed();
  let grown = 0;
  // the longest lock first: what a later point needs it needs for less long
  for (const point of points) {
    const until = point.lockedUntil!;
    const short = new Set(
      (await services.db.withScope(system, (tx) => packsLockedBefore(tx, grant.spaceId, until))).map((pack) =>
        pack.id.toString("hex"),
      ),
    );
    if (short.size === 0) continue;
    const packs = new Set<string>();
    const [nodes, chunks] = [seen.nodes.size, seen.chunks.size];
    await seen.add(reader, point.root);
    const ids = [...[...seen.nodes].slice(nodes), ...[...seen.chunks].slice(chunks)].map((id) =>
      Buffer.from(id, "latin1"),
    );
    for (let at = 0; at < ids.length; at += AT_A_TIME) {
      const located = await services.db.withScope(system, (tx) =>
        locateChunks(tx, grant.spaceId, ids.slice(at, at + AT_A_TIME)),
      );
      for (const pack of located) if (pack) packs.add(pack.toString("hex"));
    }
    for (const id of packs) {
      if (!short.has(id)) continue;
      await place.extendLock(packName(grant.spaceId, id), until);
      await services.db.withScope(system, (tx) =>
        notePackLock(tx, grant.spaceId, Buffer.from(id, "hex"), until),
      );
      grown += 1;
    }
  }
  return grown;
}
