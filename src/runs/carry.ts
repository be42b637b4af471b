import { setTimeout as sleep } from "node:timers/promises";
import { CodedError } from "@/core/codes";
import type { ClientId, DepotId } from "@/core/ids";
import { notify } from "@/db/base/notify";
import { absenceNow } from "@/db/depots/absences";
import { countSpace, type Depot, depotById, type Grant, grantOf, takeSpace } from "@/db/depots/depots";
import { packExists } from "@/db/points/chunks";
import {
  carriesWanted,
  insertCarriedPack,
  insertCopy,
  noteSharedPacks,
  packsToCarry,
  pointsToCarry,
  spacesWithPack,
} from "@/db/points/copies";
import { holdPlacedPoint } from "@/db/points/points";
import { announceObject, type PendingObject, settleObject, withdrawObject } from "@/db/runs/pending-objects";
import { markCaughtUp } from "@/db/runs/run-depots";
import { holdWriter } from "@/db/runs/writers";
import { RUNNER, record } from "@/server/access/who";
import type { Services } from "@/server/base/services";
import { packName, pointName } from "@/store/packs/layout";
import { openPack } from "@/store/packs/pack";
import { type Place, rangesOf } from "@/store/places/place";
import { openBlock } from "@/store/press/block";
import { compressor } from "@/store/press/compressor";
import { askCarry, type CarryRoute } from "./carry-request";
import { lockDay } from "./lock-day";
import { asWriter } from "./writers";

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

/** Both ends of a carry. */
interface Ends {
  readonly from: Grant;
  readonly to: Grant;
  readonly fromDepot: Depot;
  readonly toDepot: Depot;
}

/**
 * Carries a client's points from the depot they were made in to a further one. Objects go as they are, sealed, under the
 * same ids, so that one place can mend the other; packs first, each point when all is there. It goes on where it was
 * broken off. Returns how many points were carried. Throws the code of a depot that cannot be used; what was carried stays.
 */
export async function carry(services: Services, route: CarryRoute): Promise<number> {
  const system = { role: "system" } as const;
  const ends = await services.db.withScope(system, async (tx): Promise<Ends | null> => {
    const from = await grantOf(tx, route.fromDepot, route.clientId);
    const to = await grantOf(tx, route.toDepot, route.clientId);
    const fromDepot = await depotById(tx, route.fromDepot);
    const toDepot = await depotById(tx, route.toDepot);
    if (!from || !to || !fromDepot || !toDepot) return null;
    // away by plan: what is asked every hour does it when both are there
    const now = services.now();
    if ((await absenceNow(tx, fromDepot.id, now)) || (await absenceNow(tx, toDepot.id, now))) return null;
    return { from, to, fromDepot, toDepot };
  });
  if (!ends) return 0;
  return (
    (await asWriter(services, ends.to, "carry", (writerId) => carryAsWriter(services, ends, writerId))) ?? 0
  );
}

async function carryAsWriter(services: Services, ends: Ends, writerId: string): Promise<number> {
  const system = { role: "system" } as const;
  const { from, to, fromDepot, toDepot } = ends;
  const points = await services.db.withScope(system, async (tx) => {
    const wanted = await pointsToCarry(tx, to.clientId, fromDepot.id, toDepot.id);
    // what is there already is counted on from here on: a purge beside spares it
    if (wanted.length) await noteSharedPacks(tx, from.spaceId, to.spaceId, services.now());
    return wanted;
  });
  if (points.length === 0) return 0;
  const source = services.places.of(fromDepot);
  const target = services.places.of(toDepot);
  const lock = lockDay(to, services.now());
  const packs = await carryPacks(services, ends, writerId, source, target, lock);
  let carried = 0;
  for (const point of points) {
    const id = point.id.toString("hex");
    const pending = { spaceId: to.spaceId, object: "point", id: point.id } as const;
    await announced(services, pending, to.clientId, writerId);
    const put = await putOnce(
      target,
      pointName(to.spaceId, id),
      rangesOf(source, pointName(from.spaceId, id), point.size),
      lock,
    ).then(
      () => true,
      (error) => {
        if (error instanceof CodedError && error.code === "not-found") return false;
        throw error;
      },
    );
    const made = await services.db.withScope(system, async (tx) => {
      await holdWriter(tx, writerId);
      // a purge that took it away in between took packs away too
      if (!(await holdPlacedPoint(tx, point.id, fromDepot.id))) return false;
      if (!put) throw new CodedError("store.damaged", `${pointName(from.spaceId, id)} is missing`);
      await settleObject(tx, pending, { writerId });
      const inserted = await insertCopy(
        tx,
        {
          pointId: point.id,
          depotId: toDepot.id,
          clientId: to.clientId,
          objectBytes: point.size,
          lockedUntil: lock ?? null,
        },
        services.now(),
      );
      if (inserted) await countSpace(tx, to.spaceId, point.size);
      await markCaughtUp(tx, point.id, toDepot.id);
      return true;
    });
    if (made) carried += 1;
  }
  await services.db.withScope(system, async (tx) => {
    await record(tx, { ...RUNNER, at: services.now() }, to.clientId, "copied recovery points", toDepot.name, {
      from: fromDepot.name,
      points: carried,
      packs,
    });
    await notify(tx, { kind: "depot", clientId: to.clientId, id: toDepot.id });
  });
  return carried;
}

/**
 * Carries packs until the further depot lacks none: a purge of the first one may rewrite packs meanwhile, and what was in
 * one is then in another. Returns how many were carried.
 */
async function carryPacks(
  services: Services,
  { from, to, toDepot }: Ends,
  writerId: string,
  source: Place,
  target: Place,
  lock: Date | undefined,
): Promise<number> {
  const system = { role: "system" } as const;
  const spaces = { from: from.spaceId, to: to.spaceId };
  let carried = 0;
  for (;;) {
    const packs = await services.db.withScope(system, (tx) => packsToCarry(tx, from.spaceId, to.spaceId));
    if (packs.length === 0) return carried;
    for (const pack of packs) {
      const id = pack.id.toString("hex");
      const pending = { spaceId: to.spaceId, object: "pack", id: pack.id } as const;
      if (!(await announced(services, pending, to.clientId, writerId))) break;
      try {
        const content = rangesOf(source, packName(from.spaceId, id), pack.size);
        await putOnce(target, packName(to.spaceId, id), content, lock);
      } catch (error) {
        // a purge beside took it away: what is needed of it is in another, which the next listing has
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
        await settleObject(tx, pending, { writerId });
        // the pack was rewritten in the first depot, or another carry, from a third depot, was quicker
        if (!(await insertCarriedPack(tx, pack, spaces, services.now())))
          await countSpace(tx, to.spaceId, -pack.size);
        else carried += 1;
        return result;
      });
      if (taken !== "taken") {
        if (!lock) await target.remove(packName(to.spaceId, id));
        throw new CodedError(taken === "quota" ? "depot.quota" : "depot.full", toDepot.name);
      }
    }
  }
}

/** So long a carry waits for another job to write or remove the same object; the queue starts it again after that. */
const OTHERS_MS = 3000;

/**
 * Announces an object, waiting for another job that is at it. False when one was: it may be there by now. Throws
 * `request.conflict` when that job does not end in time.
 */
async function announced(
  services: Services,
  pending: PendingObject,
  clientId: ClientId,
  writerId: string,
): Promise<boolean> {
  const until = performance.now() + OTHERS_MS;
  for (let first = true; ; first = false) {
    try {
      await services.db.withScope({ role: "system" }, (tx) =>
        announceObject(tx, pending, clientId, { writerId }, services.now()),
      );
      return first;
    } catch (error) {
      const busy = error instanceof CodedError && error.code === "request.conflict";
      if (!busy || performance.now() > until) throw error;
      await sleep(100);
    }
  }
}

const stillThere = (services: Services, grant: Grant, packId: Buffer) =>
  services.db.withScope({ role: "system" }, (tx) => packExists(tx, grant.spaceId, packId));

/**
 * Brings a damaged or missing pack back from another depot of the client that holds the same one, once every block of it
 * was opened there. False where there is none, or none that is whole.
 */
export const mendPack = async (services: Services, grant: Grant, packId: Buffer): Promise<boolean> =>
  (await asWriter(services, grant, "mend", (writerId) => mendAsWriter(services, grant, packId, writerId))) ??
  false;

async function mendAsWriter(
  services: Services,
  grant: Grant,
  packId: Buffer,
  writerId: string,
): Promise<boolean> {
  const system = { role: "system" } as const;
  const pending = { spaceId: grant.spaceId, object: "pack", id: packId } as const;
  // announced, then asked: a sweep that comes after spares it, and what a purge took away before is not put again
  const listed = await services.db.withScope(system, async (tx) => {
    await announceObject(tx, pending, grant.clientId, { writerId }, services.now());
    if (await packExists(tx, grant.spaceId, packId)) return true;
    await withdrawObject(tx, pending, { writerId });
    return false;
  });
  if (!listed) return false;
  const others = await services.db.withScope(system, (tx) =>
    spacesWithPack(tx, grant.clientId, packId, grant.spaceId),
  );
  const keys = await services.spaces.keys(grant.clientId);
  const id = packId.toString("hex");
  const placeOf = async (depotId: DepotId) =>
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
      await services.db.withScope(system, (tx) => withdrawObject(tx, pending, { writerId }));
      return true;
    } catch (error) {
      // this one is no help; the next may be
      if (!(error instanceof CodedError)) throw error;
    }
  }
  return false;
}
