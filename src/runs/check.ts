import { randomUUID } from "node:crypto";
import { setTimeout as sleep } from "node:timers/promises";
import { CodedError } from "@/core/codes";
import type { ClientId, DepotId } from "@/core/ids";
import { notify } from "@/db/base/notify";
import { enqueue } from "@/db/base/queue";
import type { Tx } from "@/db/base/scope";
import { absenceNow } from "@/db/depots/absences";
import { depotById, type Grant, grantOf, listGrants, setPurgeDue } from "@/db/depots/depots";
import { packsInUse } from "@/db/points/chunks";
import { pointsInSpace } from "@/db/points/points";
import {
  beginCheck,
  type CheckDepth,
  checkById,
  endCheck,
  forgetChunks,
  forgetDamages,
  insertCheck,
  markDamaged,
  noteCheck,
  noteDamage,
  openCheck,
  openChecks,
} from "@/db/runs/checks";
import { RUNNER, record, type Who } from "@/server/access/who";
import { isDatabaseAway, Problem } from "@/server/base/problem";
import type { Services } from "@/server/base/services";
import { checkSpace, type Finding, type Touched, VerifiedPacks } from "@/store/read/check";
import { mendPack } from "./carry";
import { asWriter } from "./writers";

const NOTE_EVERY_MS = 1000;
/** How long a check that found something waits for a purge to end. */
const PURGE_PATIENCE_MS = 15 * 60_000;

/** Asks for a check of a client's space. One that waits or goes on is enough. */
export async function requestCheck(
  tx: Tx,
  who: Who,
  space: { readonly depotId: DepotId; readonly depotName: string; readonly clientId: ClientId },
  depth: CheckDepth,
): Promise<string> {
  const open = await openCheck(tx, space.depotId, space.clientId);
  if (open) throw new Problem("request.conflict", "A check of this client's data is already running.");
  const away = await absenceNow(tx, space.depotId, who.at);
  if (away) throw new Problem("request.conflict", `${space.depotName} has a planned absence: ${away.note}.`);
  const id = randomUUID();
  await insertCheck(tx, { id, ...space, depth, requestedBy: who.actor, requestedAt: who.at });
  await record(tx, who, space.clientId, "requested a check", space.depotName, { depth });
  await askCheck(tx, id);
  await notify(tx, { kind: "depot", clientId: space.clientId, id: space.depotId });
  return id;
}

const askCheck = (tx: Tx, checkId: string): Promise<void> =>
  enqueue(tx, "check", { checkId }, `check ${checkId}`);

/** Checks every space that has something in it, unless a check of it is open. */
export async function requestAllChecks(services: Services, depth: CheckDepth): Promise<void> {
  const at = services.now();
  await services.db.withScope({ role: "system" }, async (tx) => {
    for (const grant of await listGrants(tx)) {
      if (await absenceNow(tx, grant.depotId, at)) continue;
      if (grant.usedBytes === 0 || (await openCheck(tx, grant.depotId, grant.clientId))) continue;
      const depotName = (await depotById(tx, grant.depotId))!.name;
      await requestCheck(tx, { ...RUNNER, at }, { ...grant, depotName }, depth);
    }
  });
}

/** Checks that a runner began and did not end go on; what they verified so far is not read again. */
export async function resumeChecks(services: Services): Promise<void> {
  await services.db.withScope({ role: "system" }, async (tx) => {
    for (const id of await openChecks(tx)) await askCheck(tx, id);
  });
}

/**
 * Does a check. What it finds is marked: the points it touches are damaged, the chunks of damaged packs are forgotten, so
 * that the next run, which reads everything, stores them anew; a later check that finds them whole takes the marks away.
 */
export async function runCheck(services: Services, checkId: string): Promise<void> {
  const system = { role: "system" } as const;
  const found = await services.db.withScope(system, async (tx) => {
    const check = await checkById(tx, checkId);
    const grant = check && (await grantOf(tx, check.depotId, check.clientId));
    const depot = check && (await depotById(tx, check.depotId));
    if (!check || check.endedAt || !grant || !depot) return null;
    await beginCheck(tx, check.id, services.now());
    return { check, grant, depot };
  });
  if (!found) return;
  const { check, grant, depot } = found;
  const verified = new VerifiedPacks(check.verified);
  const notice = { kind: "depot", clientId: check.clientId, id: depot.id } as const;
  let noted = performance.now();
  try {
    const keys = await services.spaces.keys(check.clientId).catch((error) => {
      const locked = error instanceof CodedError && error.code === "key.passphrase-needed";
      if (locked && check.depth === "objects") return null;
      throw error;
    });
    const look = async () => {
      const { packs, points } = await services.db.withScope(system, async (tx) => ({
        packs: await packsInUse(tx, grant.spaceId),
        points: await pointsInSpace(tx, depot.id, check.clientId),
      }));
      return checkSpace({
        keys,
        place: services.places.of(depot),
        spaceId: grant.spaceId,
        depth: check.depth,
        packs: packs.map(({ id, size }) => ({ id: id.toString("hex"), size })),
        verified,
        points: points.map(({ id, root, objectBytes }) => ({
          id: id.toString("hex"),
          root,
          size: objectBytes,
        })),
        progress: (so) => {
          if (performance.now() - noted < NOTE_EVERY_MS) return;
          noted = performance.now();
          const figures = { ...so, ofPacks: packs.length, ofPoints: points.length };
          services.db
            .withScope(system, async (tx) => {
              await noteCheck(tx, check.id, figures, verified.state());
              await notify(tx, notice);
            })
            .catch(() => {});
        },
      });
    };
    const mended: string[] = [];
    const confirm = async () => {
      const confirmed = await look();
      for (const finding of confirmed.findings)
        if (
          keys &&
          finding.object === "pack" &&
          (await mendPack(services, grant, Buffer.from(finding.id, "hex")))
        )
          mended.push(finding.id);
      return mended.length ? look() : confirmed;
    };
    const first = await look();
    const clear = first.findings.length === 0 && first.touched.length === 0;
    const {
      findings: real,
      touched,
      figures,
    } = clear ? first : await besideNoPurge(services, grant, confirm);
    await services.db.withScope(system, async (tx) => {
      const now = services.now();
      await forgetDamages(tx, grant.spaceId);
      const damages = [...real, ...lostWith(touched, real)];
      for (const { object, id, detail, chunks } of damages) {
        const objectId = Buffer.from(id, "hex");
        await noteDamage(tx, grant.spaceId, check.clientId, {
          object,
          objectId,
          foundAt: now,
          detail,
          touches: touched
            .filter((one) => (object === "point" ? one.pointId === id : one.packs.includes(id)))
            .map(({ pointId, path }) => ({ pointId, path })),
        });
        if (object === "pack") await forgetChunks(tx, grant.spaceId, objectId, chunks);
      }
      if (real.length) await setPurgeDue(tx, grant.spaceId, true);
      const damaged = new Set([
        ...touched.map((one) => one.pointId),
        ...real.filter((finding) => finding.object === "point").map((finding) => finding.id),
      ]);
      await markDamaged(
        tx,
        depot.id,
        check.clientId,
        [...damaged].map((id) => Buffer.from(id, "hex")),
        now,
      );
      const all = {
        ...figures,
        findings: real.length,
        files: figures.files,
        touched: touched.length,
        mended: mended.length,
        damagedPoints: damaged.size,
      };
      const clean = real.length === 0 && damaged.size === 0;
      await endCheck(
        tx,
        check.id,
        clean ? "clean" : "damage",
        clean ? (mended.length ? describeMended(mended.length) : null) : describe(real.length, damaged.size),
        all,
        now,
      );
      await record(tx, { ...RUNNER, at: now }, check.clientId, "checked a depot", depot.name, {
        depth: check.depth,
        ...all,
      });
      await notify(tx, notice);
    });
    services.spaces.forget(check.clientId, depot.id);
  } catch (error) {
    // the database is away: nothing is known of the space, and the check goes on when the queue takes it up again
    if (isDatabaseAway(error)) throw error;
    if (!(error instanceof CodedError)) console.error(error);
    await services.db.withScope(system, async (tx) => {
      await endCheck(tx, check.id, "failed", (error as Error).message, {}, services.now());
      await notify(tx, notice);
    });
  }
}

/**
 * Does work while no purge of the space goes on: a purge between reading the catalogue and reading the depot makes what it
 * removed look missing. Throws `request.conflict` when a purge does not end in time.
 */
async function besideNoPurge<T>(services: Services, grant: Grant, work: () => Promise<T>): Promise<T> {
  const until = performance.now() + PURGE_PATIENCE_MS;
  for (;;) {
    const done = await asWriter(services, grant, "check", async () => ({ result: await work() }));
    if (done) return done.result;
    if (performance.now() > until)
      throw new CodedError(
        "request.conflict",
        "damage was found but not confirmed, because a purge was running; check again",
      );
    await sleep(500);
  }
}

/** Points whose damage no object of this check explains: what they lack was lost with a pack that was found before. */
function lostWith(touched: readonly Touched[], findings: readonly Finding[]): Finding[] {
  const explained = new Set(findings.map((finding) => finding.id));
  const points = touched
    .filter((one) => !one.packs.some((pack) => explained.has(pack)))
    .map((one) => one.pointId);
  return [...new Set(points)]
    .filter((id) => !explained.has(id))
    .map((id) => ({
      object: "point",
      id,
      detail: "some of its chunks are in no pack",
      chunks: null,
    }));
}

const describeMended = (packs: number): string =>
  `${packs} damaged ${packs === 1 ? "pack was" : "packs were"} mended from another depot; all is whole again.`;

function describe(findings: number, points: number): string {
  const lack = `${points} ${points === 1 ? "point has" : "points have"} missing data`;
  const found =
    findings === 0
      ? `The stored data is intact, but ${lack} that was lost before.`
      : `${findings} ${findings === 1 ? "object is" : "objects are"} damaged; ${lack}.`;
  return `${found} The next run of each source reads everything and stores what still exists.`;
}
