import { CodedError } from "@/core/codes";
import { absenceNow } from "@/db/absences";
import {
  carriesWanted,
  insertCarriedPack,
  insertCopy,
  packsToCarry,
  pointsToCarry,
  spacesWithPack,
} from "@/db/copies";
import { countSpace, depotById, type Grant, grantOf, takeSpace } from "@/db/depots";
import { notify } from "@/db/notify";
import { markCaughtUp } from "@/db/run-depots";
import { one } from "@/db/scope";
import type { Services } from "@/server/services";
import { RUNNER, record } from "@/server/who";
import { packName, pointName } from "@/store/layout";
import { openPack } from "@/store/pack";
import { type Place, rangesOf } from "@/store/places/place";
import { openBlock } from "@/store/press/block";
import { compressor } from "@/store/press/compressor";
import { askCarry, type CarryRoute } from "./carry-request";

/** Asks for every carry that a policy wants: what failed is caught up so. */
export async function askAllCarries(services: Services): Promise<void> {
  await services.db.withScope({ role: "system" }, async (tx) => {
    for (const route of await carriesWanted(tx)) await askCarry(tx, route);
  });
}

/** Puts an object where it may be already: an earlier try whose end nobody saw. */
async function putOnce(place: Place, name: string, content: AsyncIterable<Uint8Array>, lock?: Date) {
  await place.put(name, content, lock).catch((error) => {
    if (!(error instanceof CodedError && error.code === "request.conflict")) throw error;
  });
}

/**
 * Carries a client's points from the depot they were made in to a further one. Objects go as they are, sealed, under the
 * same ids, so that one place can mend the other; packs first, each point when all is there. It goes on where it was
 * broken off. Returns how many points were carried. Throws the code of a depot that cannot be used; what was carried stays.
 */
export async function carry(services: Services, route: CarryRoute): Promise<number> {
  const system = { role: "system" } as const;
  const found = await services.db.withScope(system, async (tx) => {
    const from = await grantOf(tx, route.fromDepot, route.clientId);
    const to = await grantOf(tx, route.toDepot, route.clientId);
    const fromDepot = await depotById(tx, route.fromDepot);
    const toDepot = await depotById(tx, route.toDepot);
    if (!from || !to || !fromDepot || !toDepot) return null;
    // away by plan: what is asked every hour does it when both are there
    const now = services.now();
    if ((await absenceNow(tx, fromDepot.id, now)) || (await absenceNow(tx, toDepot.id, now))) return null;
    return {
      from,
      to,
      fromDepot,
      toDepot,
      points: await pointsToCarry(tx, route.clientId, fromDepot.id, toDepot.id),
    };
  });
  if (!found || found.points.length === 0) return 0;
  const { from, to, fromDepot, toDepot, points } = found;
  const source = services.places.of(fromDepot);
  const target = services.places.of(toDepot);
  const lock = to.lockDays > 0 ? new Date(services.now().getTime() + to.lockDays * 86_400_000) : undefined;
  // listed after the points: what a point needs was stored before it
  const packs = await services.db.withScope(system, (tx) => packsToCarry(tx, from.spaceId, to.spaceId));
  for (const pack of packs) {
    const id = pack.id.toString("hex");
    try {
      await putOnce(
        target,
        packName(to.spaceId, id),
        rangesOf(source, packName(from.spaceId, id), pack.size),
        lock,
      );
    } catch (error) {
      // a purge beside took it away: no point needs it
      if (
        error instanceof CodedError &&
        error.code === "not-found" &&
        !(await stillThere(services, from, pack.id))
      )
        continue;
      throw error;
    }
    const taken = await services.db.withScope(system, async (tx) => {
      const result = await takeSpace(tx, to, pack.size);
      if (result !== "taken") return result;
      const spaces = { from: from.spaceId, to: to.spaceId };
      // another carry, from a third depot, was quicker
      if (!(await insertCarriedPack(tx, pack, spaces, services.now())))
        await countSpace(tx, to.spaceId, -pack.size);
      return result;
    });
    if (taken !== "taken") {
      if (!lock) await target.remove(packName(to.spaceId, id));
      throw new CodedError(taken === "quota" ? "depot.quota" : "depot.full", toDepot.name);
    }
  }
  for (const point of points) {
    const id = point.id.toString("hex");
    await putOnce(
      target,
      pointName(to.spaceId, id),
      rangesOf(source, pointName(from.spaceId, id), point.size),
      lock,
    );
    await services.db.withScope(system, async (tx) => {
      const made = await insertCopy(
        tx,
        {
          pointId: point.id,
          depotId: toDepot.id,
          clientId: route.clientId,
          objectBytes: point.size,
          lockedUntil: lock ?? null,
        },
        services.now(),
      );
      if (made) await countSpace(tx, to.spaceId, point.size);
      await markCaughtUp(tx, point.id, toDepot.id);
    });
  }
  await services.db.withScope(system, async (tx) => {
    await record(
      tx,
      { ...RUNNER, at: services.now() },
      route.clientId,
      "carried recovery points",
      toDepot.name,
      {
        from: fromDepot.name,
        points: points.length,
        packs: packs.length,
      },
    );
    await notify(tx, { kind: "depot", clientId: route.clientId, id: toDepot.id });
  });
  return points.length;
}

const stillThere = (services: Services, grant: Grant, packId: Buffer) =>
  services.db.withScope({ role: "system" }, async (tx) =>
    Boolean(await one(tx, "select from packs where space_id = $1 and id = $2", [grant.spaceId, packId])),
  );

/**
 * Brings a damaged or missing pack back from another depot of the client that holds the same one, once every block of it
 * was opened there. False where there is none, or none that is whole.
 */
export async function mendPack(services: Services, grant: Grant, packId: Buffer): Promise<boolean> {
  const system = { role: "system" } as const;
  const others = await services.db.withScope(system, (tx) =>
    spacesWithPack(tx, grant.clientId, packId, grant.spaceId),
  );
  const keys = await services.spaces.keys(grant.clientId);
  const id = packId.toString("hex");
  const placeOf = async (depotId: string) =>
    services.places.of((await services.db.withScope(system, (tx) => depotById(tx, depotId)))!);
  for (const other of others) {
    try {
      const source = await placeOf(other.depotId);
      const name = packName(other.spaceId, id);
      const size = await source.size(name);
      const pack = await openPack(keys, packId, {
        size,
        read: (offset, length) => source.read(name, offset, length),
      });
      for (const [place, block] of pack.blocks.entries()) {
        const sealed = await source.read(name, block.offset, block.sealedLength);
        await openBlock(pack.sealedBlock(place, sealed), compressor);
      }
      const target = await placeOf(grant.depotId);
      await target.remove(packName(grant.spaceId, id));
      await target.put(packName(grant.spaceId, id), rangesOf(source, name, size));
      return true;
    } catch (error) {
      // this one is no help; the next may be
      if (!(error instanceof CodedError)) throw error;
    }
  }
  return false;
}
