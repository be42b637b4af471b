import { randomUUID } from "node:crypto";
import { CodedError } from "@/core/codes";
import type { ClientId } from "@/core/ids";
import { type Consent, insertCertificate } from "@/db/access/consents";
import { enqueue } from "@/db/base/queue";
import type { Tx } from "@/db/base/scope";
import { clientById } from "@/db/clients/clients";
import {
  type ClientKey,
  clientKey,
  destroyKey,
  forgetMachineKeys,
  holdKey,
  lendKey,
  liveRunners,
  machinesWithoutKey,
  setMachineKey,
  takeClientLoansBack,
} from "@/db/clients/keys";
import { listDepots, listGrants } from "@/db/depots/depots";
import { pointsOfClient } from "@/db/points/points";
import { sealTo } from "@/store/seal/secrets";
import { unwrapKey, wrapKey } from "@/store/seal/wrapping";
import { Problem } from "../base/problem";
import type { Services } from "../base/services";
import { keyContext } from "../inside/space-readers";
import { RUNNER_THERE_MS } from "./unlocked";
import { record, type Who } from "./who";

/** How clients' keys are held: in escrow or under a passphrase, opened for a session, and destroyed. */

/** Opens a key with its passphrase. Throws `key.wrong-passphrase`, and `request.too-many` after ten wrong ones. */
async function openWith(services: Services, key: ClientKey, passphrase: string): Promise<Buffer> {
  if (!key.sealed) throw new CodedError("key.destroyed");
  if (!key.wrapping) throw new Problem("request.conflict", "This key is in escrow: it needs no passphrase.");
  await services.attempts.take("passphrase", key.clientId);
  try {
    const opened = await unwrapKey(key.sealed, key.wrapping, passphrase);
    await services.attempts.giveBack("passphrase", key.clientId);
    return opened;
  } catch (error) {
    if (!(error instanceof CodedError)) throw error;
    throw new Problem(error.code, error.message, [
      { field: "passphrase", message: "This passphrase does not open the key." },
    ]);
  }
}

async function keyThere(tx: Tx, clientId: ClientId): Promise<ClientKey> {
  const key = await clientKey(tx, clientId);
  if (!key) throw new CodedError("key.not-confirmed");
  if (!key.sealed) throw new CodedError("key.destroyed");
  return key;
}

/** Gives every machine of a client its key, sealed to it, where it has none. Returns their names. */
export async function giveMachinesKey(tx: Tx, clientId: ClientId, key: Buffer, now: Date): Promise<string[]> {
  const without = await machinesWithoutKey(tx, clientId);
  for (const machine of without)
    await setMachineKey(tx, clientId, machine.id, sealTo(machine.publicKey, key), now);
  return without.map((machine) => machine.name);
}

/** Opens a client's key for a session, in all webs and runners; machines that came later get it too. */
export async function unlock(
  services: Services,
  who: Who,
  clientId: ClientId,
  passphrase: string,
  session: string,
  until: Date,
): Promise<{ machines: string[] }> {
  const system = { role: "system" } as const;
  const key = await services.db.withScope(system, (tx) => keyThere(tx, clientId));
  const opened = await openWith(services, key, passphrase);
  // also a web that started a moment ago can be lent it
  await services.lentKeys.beat();
  return services.db.withScope(system, async (tx) => {
    for (const runner of await liveRunners(tx, new Date(who.at.getTime() - RUNNER_THERE_MS)))
      await lendKey(tx, {
        runnerId: runner.id,
        clientId,
        sessionId: Buffer.from(session, "hex"),
        sealed: sealTo(runner.publicKey, opened),
        until,
      });
    const machines = await giveMachinesKey(tx, clientId, opened, who.at);
    const client = await clientById(tx, clientId);
    await record(tx, who, clientId, "entered the passphrase", client?.name ?? "", { until, machines });
    // what waited for the key: a purge, and locks that grow
    await enqueue(tx, "purge", {}, "purge");
    return { machines };
  });
}

/**
 * Holds a client's key otherwise: under a passphrase, under another one, or in escrow. The key stays the same, so no data
 * moves. `passphrase` is the one that opens it now, where there is one.
 */
export async function changeHolding(
  services: Services,
  who: Who,
  clientId: ClientId,
  passphrase: string | null,
  wanted: { readonly holding: "escrow" } | { readonly holding: "passphrase"; readonly passphrase: string },
): Promise<void> {
  const system = { role: "system" } as const;
  const key = await services.db.withScope(system, (tx) => keyThere(tx, clientId));
  if (!key.confirmedAt) throw new CodedError("key.not-confirmed");
  if (key.holding === "escrow" && wanted.holding === "escrow")
    throw new Problem("request.conflict", "This key is in escrow already.");
  const opened =
    key.holding === "escrow"
      ? services.secrets.unseal(key.sealed!, keyContext(clientId))
      : await openWith(services, key, passphrase ?? "");
  const held =
    wanted.holding === "escrow"
      ? { wrapping: null, sealed: services.secrets.seal(opened, keyContext(clientId)) }
      : await wrapKey(opened, wanted.passphrase);
  await services.db.withScope(system, async (tx) => {
    await holdKey(tx, { clientId, holding: wanted.holding, ...held });
    if (wanted.holding === "passphrase") await giveMachinesKey(tx, clientId, opened, who.at);
    else await forgetMachineKeys(tx, clientId);
    await takeClientLoansBack(tx, clientId);
    const client = await clientById(tx, clientId);
    const action =
      wanted.holding === "escrow"
        ? "put the client's key into escrow"
        : key.holding === "escrow"
          ? "removed the client's key from escrow"
          : "changed the passphrase of the client's key";
    await record(tx, who, clientId, action, client?.name ?? "", { fingerprint: key.fingerprint });
  });
  services.spaces.forgetClient(clientId);
}

/** Destroys a client's key and leaves a certificate of what cannot be read any more. Two people agreed to it. */
export async function destroyClientKey(
  services: Services,
  tx: Tx,
  who: Who,
  consent: Consent,
): Promise<string> {
  const { clientId } = consent;
  const key = await keyThere(tx, clientId);
  const client = (await clientById(tx, clientId))!;
  const depots = new Map((await listDepots(tx)).map((depot) => [depot.id, depot]));
  const counts = await pointsOfClient(tx, clientId);
  await destroyKey(tx, clientId, who.at);
  // loans are the system's alone; where the change is not committed, the passphrase is asked for again
  await services.db.withScope({ role: "system" }, (all) => takeClientLoansBack(all, clientId));
  const id = randomUUID();
  await insertCertificate(tx, {
    id,
    clientId,
    madeAt: who.at,
    body: {
      certificate: id,
      client: client.name,
      fingerprint: key.fingerprint,
      heldIn: key.holding,
      destroyedAt: who.at,
      askedBy: consent.askedByName,
      askedAt: consent.askedAt,
      agreedBy: who.actor,
      reason: consent.reason,
      ...counts,
      lockedUntil: counts.lockedUntil ?? null,
      spaces: (await listGrants(tx))
        .filter((grant) => grant.clientId === clientId)
        .map((grant) => ({
          depot: depots.get(grant.depotId)?.name,
          region: depots.get(grant.depotId)?.region,
          space: grant.spaceId,
          bytes: grant.usedBytes,
        })),
    },
  });
  await record(tx, who, clientId, "destroyed the client's key", client.name, {
    certificate: id,
    fingerprint: key.fingerprint,
  });
  services.spaces.forgetClient(clientId);
  return id;
}
