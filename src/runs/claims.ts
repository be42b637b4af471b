import { CodedError } from "@/core/codes";
import { appendTrail } from "@/db/access/trail";
import { claimedPacks, settleClaims } from "@/db/points/chunks";
import type { Target } from "@/db/runs/run-depots";
import { RUNNER } from "@/server/access/who";
import type { Services } from "@/server/base/services";
import { packName } from "@/store/packs/layout";
import { verifiedIds } from "@/store/packs/verify-pack";
import type { Executor } from "./agent-desk";

/** Verifications that are going on in this process, by space and pack. */
const going = new Map<string, Promise<void>>();

/**
 * Verifies the packs of other machines that claim to hold one of these chunks, before this machine's content is left out
 * because of them. A machine that was taken over cannot so make others lose what it only pretends to have stored. Where the
 * client's key is not open, nothing can be verified, and others' claims do not count.
 */
export async function verifyClaims(
  services: Services,
  executor: Executor,
  target: Target,
  ids: readonly Uint8Array[],
): Promise<void> {
  const claimed = await services.db.withScope({ role: "system" }, (tx) =>
    claimedPacks(tx, target.grant.spaceId, ids, executor.id),
  );
  for (const pack of claimed) {
    const name = `${target.grant.spaceId} ${pack.id.toString("hex")}`;
    const work = going.get(name) ?? verifyPack(services, target, pack).finally(() => going.delete(name));
    going.set(name, work);
    await work.catch((error) => {
      // the pack stays a claim: a key that is not open, a depot that does not answer
      if (!(error instanceof CodedError)) throw error;
    });
  }
}

async function verifyPack(
  services: Services,
  { depot, grant }: Target,
  pack: { readonly id: Buffer; readonly size: number },
): Promise<void> {
  const keys = await services.spaces.keys(grant.clientId);
  const place = services.places.of(depot);
  const name = packName(grant.spaceId, pack.id.toString("hex"));
  const ids = await verifiedIds(keys, pack.id, {
    size: pack.size,
    read: (offset, length) => place.read(name, offset, length),
  });
  await services.db.withScope({ role: "system" }, async (tx) => {
    const missing = await settleClaims(tx, grant.spaceId, pack.id, ids);
    if (missing)
      await appendTrail(tx, {
        at: services.now(),
        clientId: grant.clientId,
        actor: RUNNER.actor,
        address: RUNNER.address,
        action: "rejected the contents of a pack",
        subject: depot.name,
        details: { pack: pack.id.toString("hex"), chunks: missing },
      });
  });
}
