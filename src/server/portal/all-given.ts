import type { ClientId } from "@/core/ids";
import type { Tx } from "@/db/base/scope";
import { clientById } from "@/db/clients/clients";
import { clientKey } from "@/db/clients/keys";
import { pointsOf } from "@/db/points/points";
import { type Ask, asksOfPerson } from "@/db/portal/asks";
import { giftsOfPerson } from "@/db/portal/gifts";
import { type OwnRestore, restoresOfPerson } from "@/db/runs/runs";
import { machineById } from "@/db/sources/machines";
import { isReachable, sourceById } from "@/db/sources/sources";
import { showBytes } from "@/store/tree/tree";
import { shownGift } from "./given";

const LATELY_MS = 30 * 86_400_000;

/** What an ask holds: the restore that it becomes. */
interface AskedRestore {
  readonly stored: { readonly items: readonly { readonly path: string }[]; readonly folder: string | null };
}

/** A restore, without what is no concern of whoever asked for it. */
const shownRestore = ({ request, ...restore }: OwnRestore) => ({
  ...restore,
  download: "download" in request ? request.download : null,
  folder: "folder" in request ? request.folder : null,
});
export const shownAsk = ({ request, ...ask }: Ask) => {
  const { stored } = request as unknown as AskedRestore;
  return {
    ...ask,
    paths: stored.items.slice(0, 20).map(({ path }) => showBytes(path)),
    folder: stored.folder,
  };
};

/** All that the portal shows a person at first sight. */
export async function allGiven(
  tx: Tx,
  person: { readonly id: string; readonly clientId: ClientId },
  now: Date,
) {
  const since = new Date(now.getTime() - LATELY_MS);
  const client = (await clientById(tx, person.clientId))!;
  const gifts = [];
  for (const gift of await giftsOfPerson(tx, person.id, now)) {
    const source = (await sourceById(tx, gift.sourceId))!;
    const machine = source.machineId ? await machineById(tx, source.machineId) : null;
    const points = (await pointsOf(tx, gift.sourceId)).filter((point) => !point.droppedAt);
    gifts.push({
      ...shownGift(gift),
      kind: source.kind,
      reachable: await isReachable(tx, source),
      machine: machine && !machine.goneAt ? { name: machine.name, seenAt: machine.seenAt } : null,
      points: points.length,
      newest: points[0]?.moment ?? null,
    });
  }
  return {
    client: { id: client.id, name: client.name, zone: client.zone },
    // a key under a passphrase is not the console's to open: the technician restores instead
    passphraseNeeded: (await clientKey(tx, person.clientId))?.holding === "passphrase",
    gifts,
    restores: (await restoresOfPerson(tx, person.id, since)).map(shownRestore),
    asks: (await asksOfPerson(tx, person.id, since)).map(shownAsk),
  };
}
