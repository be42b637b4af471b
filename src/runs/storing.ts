import { randomUUID } from "node:crypto";
import { findBurst } from "@/core/anomaly/burst";
import { type Code, CodedError, isCode } from "@/core/codes";
import type { ClientId, DepotId, RunId } from "@/core/ids";
import type { PointReport } from "@/core/protocol/agent";
import { counted } from "@/core/units/duration";
import { notify } from "@/db/base/notify";
import { enqueue } from "@/db/base/queue";
import type { Tx } from "@/db/base/scope";
import { countSpace, takeSpace } from "@/db/depots/depots";
import { insertPack, knownChunks, packExists } from "@/db/points/chunks";
import { insertCopy } from "@/db/points/copies";
import { type BurstEvidence, holdsOf, placeHold } from "@/db/points/holds";
import { insertPoint, lockPoints, pointOfRun, pointsOf } from "@/db/points/points";
import { announceObject, type PendingObject, settleObject, withdrawObject } from "@/db/runs/pending-objects";
import { countRunDepot, depotsOfRun, noteRunDepot, type Target } from "@/db/runs/run-depots";
import { appendLog, lockRun, type Run, runById, usualChanges } from "@/db/runs/runs";
import { sourceById } from "@/db/sources/sources";
import { RUNNER, record } from "@/server/access/who";
import { notFound, Problem } from "@/server/base/problem";
import type { Services } from "@/server/base/services";
import { packName, pointName } from "@/store/packs/layout";
import type { PackHolds } from "@/store/packs/pack";
import { fanOut, type Taken } from "@/store/places/fan-out";
import { type Place, rangesOf } from "@/store/places/place";
import { type Executor, machineScope, ofThisAttempt, runOf } from "./agent-desk";
import { askCarry } from "./carry-request";
import { verifyClaims } from "./claims";
import { finishRun } from "./ending";
import { lockDay } from "./lock-day";
import { leaveOut, targetsOf } from "./run-depots";

/** How what a run stores comes into its depots: packs, then the recovery point that closes it. */

const packOf = (target: Target, id: Buffer): PendingObject => ({
  spaceId: target.grant.spaceId,
  object: "pack",
  id,
});
const pointOf = (target: Target, id: Buffer): PendingObject => ({
  spaceId: target.grant.spaceId,
  object: "point",
  id,
});

/** Which chunks all of the run's depots have already. */
export async function chunksKnown(
  services: Services,
  executor: Executor,
  runId: RunId,
  ids: readonly Buffer[],
): Promise<boolean[]> {
  const targets = await services.db.withScope(machineScope(executor), async (tx) =>
    targetsOf(tx, await runOf(tx, executor, runId)),
  );
  for (const target of targets) await verifyClaims(services, executor, target, ids);
  return services.db.withScope(machineScope(executor), async (tx) => {
    const known = new Array<boolean>(ids.length).fill(true);
    for (const { grant } of targets) {
      const there = await knownChunks(tx, grant.spaceId, ids, services.now(), executor.id);
      there.forEach((yes, i) => {
        known[i] &&= yes;
      });
    }
    return known;
  });
}

/** Puts an object, or finds it there from an earlier try whose end nobody saw. Returns its size. */
async function putOrFind(
  place: Place,
  name: string,
  content: AsyncIterable<Uint8Array>,
  lockedUntil: Date | undefined,
): Promise<number> {
  try {
    return await place.put(name, content, lockedUntil);
  } catch (error) {
    if (!(error instanceof CodedError && error.code === "request.conflict")) throw error;
    return place.size(name);
  }
}

/**
 * Gives what counts and indexes a pack that lies in a depot, or leaves the depot out of the run when it does not lie there
 * or its quota has no room for it. The error of the last depot that is left is the run's own.
 */
function settling(
  services: Services,
  executor: Executor,
  run: Run,
  depots: number,
  packId: Buffer,
  holds: PackHolds,
): (target: Target, taken: Taken<number>) => Promise<void> {
  const scope = machineScope(executor);
  const now = services.now();
  let left = depots;
  return async (target, taken) => {
    const { depot, grant } = target;
    let failure: unknown = taken.ok ? null : taken.error;
    if (taken.ok) {
      const size = taken.value;
      await verifyClaims(services, executor, target, holds.ids);
      const result = await services.db.withScope(scope, async (tx) => {
        if (await packExists(tx, grant.spaceId, packId)) return "taken";
        const space = await takeSpace(tx, grant, size);
        if (space !== "taken") return space;
        await settleObject(tx, packOf(target, packId), { runId: run.id });
        await insertPack(
          tx,
          {
            spaceId: grant.spaceId,
            clientId: executor.clientId,
            id: packId,
            size,
            holds,
            lockedUntil: lockDay(grant, now) ?? null,
            claimedBy: executor.id,
          },
          now,
        );
        await countRunDepot(tx, run.id, depot.id, size);
        await notify(tx, { kind: "progress", clientId: run.clientId, id: run.id });
        return space;
      });
      if (result === "taken") return;
      await services.places
        .of(depot)
        .remove(packName(grant.spaceId, packId.toString("hex")))
        .catch((error) => {
          // locked already: a later sweep takes it
          if (!(error instanceof CodedError && error.code === "depot.not-allowed")) throw error;
        });
      await services.db.withScope(scope, (tx) =>
        withdrawObject(tx, packOf(target, packId), { runId: run.id }),
      );
      failure = new CodedError(result === "quota" ? "depot.quota" : "depot.full", depot.name);
    }
    left -= 1;
    if (left === 0) throw failure;
    await services.db.withScope(scope, (tx) => leaveOut(tx, run, target, failure, now));
  };
}

/**
 * Takes a pack that a machine put into these depots itself: the console looks whether it is there. Returns whether no depot
 * of the run lacks it.
 */
export async function takeLanded(
  services: Services,
  executor: Executor,
  runId: RunId,
  packId: Buffer,
  holds: PackHolds,
  depotIds: readonly string[],
): Promise<boolean> {
  const { run, targets } = await services.db.withScope(machineScope(executor), async (tx) => {
    const run = await runOf(tx, executor, runId);
    return { run, targets: await targetsOf(tx, run) };
  });
  const settle = settling(services, executor, run, targets.length, packId, holds);
  for (const target of targets.filter(({ depot }) => depotIds.includes(depot.id))) {
    const size = await services.places
      .of(target.depot)
      .size(packName(target.grant.spaceId, packId.toString("hex")))
      .catch((error) => {
        // it is not there after all: it is sent through the console
        if (!(error instanceof CodedError && error.code === "not-found")) throw error;
        return null;
      });
    if (size !== null) await settle(target, { ok: true, value: size });
  }
  return services.db.withScope(machineScope(executor), async (tx) => {
    for (const { grant } of await targetsOf(tx, run))
      if (!(await packExists(tx, grant.spaceId, packId))) return false;
    return true;
  });
}

/**
 * Takes a pack into all depots of the run: the first ones from the stream at the same time, the rest in turn from a depot
 * that has it; then it is counted and indexed in each. A depot that fails, or whose quota it would pass, takes no part in
 * the rest of the run; the last one that is left ends the run with its code. Putting the same pack twice is no error.
 * Returns false when the pack is to be sent again, because the depots that got it from the stream all failed.
 */
export async function takePack(
  services: Services,
  executor: Executor,
  runId: RunId,
  packId: Buffer,
  holds: PackHolds,
  content: AsyncIterable<Uint8Array>,
): Promise<boolean> {
  const scope = machineScope(executor);
  const { run, targets, lacking } = await services.db.withScope(scope, async (tx) => {
    const run = await runOf(tx, executor, runId);
    const targets = await targetsOf(tx, run);
    const lacking: Target[] = [];
    for (const target of targets) {
      if (await packExists(tx, target.grant.spaceId, packId)) continue;
      lacking.push(target);
      await announceObject(tx, packOf(target, packId), run.clientId, { runId }, services.now());
    }
    return { run, targets, lacking };
  });
  if (lacking.length === 0) {
    for await (const part of content) void part;
    return true;
  }
  const now = services.now();
  const id = packId.toString("hex");
  const placeOf = ({ depot }: Target) => services.places.of(depot);
  const put = (target: Target, part: AsyncIterable<Uint8Array>) =>
    putOrFind(placeOf(target), packName(target.grant.spaceId, id), part, lockDay(target.grant, now));
  const settle = settling(services, executor, run, targets.length, packId, holds);
  const atOnce = Math.max(1, Number(run.request.atOnce ?? 1));
  const first = lacking.slice(0, atOnce);
  const taken = await fanOut(
    content,
    first.map((target) => (part) => put(target, part)),
  );
  for (const [i, target] of first.entries()) await settle(target, taken[i]!);
  for (const target of lacking.slice(atOnce)) {
    const from = await haveIt(services, scope, targets, packId);
    if (!from) return false;
    const name = packName(from.grant.spaceId, id);
    const result = await placeOf(from)
      .size(name)
      .then((size) => put(target, rangesOf(placeOf(from), name, size)))
      .then(
        (value): Taken<number> => ({ ok: true, value }),
        (error): Taken<number> => ({ ok: false, error }),
      );
    await settle(target, result);
  }
  return true;
}

/** One of these depots that has the pack, or null. */
const haveIt = (
  services: Services,
  scope: ReturnType<typeof machineScope>,
  targets: readonly Target[],
  packId: Buffer,
): Promise<Target | null> =>
  services.db.withScope(scope, async (tx) => {
    for (const target of targets) if (await packExists(tx, target.grant.spaceId, packId)) return target;
    return null;
  });

/** Puts a sealed recovery point; the same one twice is no error. */
async function putPoint(place: Place, name: string, object: Buffer, lockedUntil: Date | undefined) {
  try {
    await place.put(name, [object], lockedUntil);
  } catch (error) {
    const same =
      error instanceof CodedError &&
      error.code === "request.conflict" &&
      (await place.read(name, 0, object.length + 1)).equals(object);
    if (!same) throw error;
  }
}

/** Takes the sealed recovery point, which is written last, into all depots of the run, and closes it. */
export async function takePoint(
  services: Services,
  executor: Executor,
  runId: RunId,
  report: PointReport,
): Promise<void> {
  const scope = machineScope(executor);
  const now = services.now();
  const id = Buffer.from(report.pointId, "hex");
  const object = Buffer.from(report.object, "base64");
  const { run, targets } = await services.db.withScope(scope, async (tx) => {
    const run = await runById(tx, runId);
    if (!run || run.machineId !== executor.id) throw notFound();
    if (run.state !== "ended") ofThisAttempt(run, report.attempt);
    const targets = run.state === "ended" ? [] : await targetsOf(tx, run);
    for (const target of targets) await announceObject(tx, pointOf(target, id), run.clientId, { runId }, now);
    return { run, targets };
  });
  if (run.state === "ended") {
    // the answer to the first try was lost
    const made = await services.db.withScope(scope, (tx) => pointOfRun(tx, runId));
    if (made?.id.equals(id)) return;
    throw new Problem("request.conflict", "This run has ended.");
  }
  const stored: Target[] = [];
  const failed: { target: Target; error: unknown }[] = [];
  await Promise.all(
    targets.map((target) =>
      putPoint(
        services.places.of(target.depot),
        pointName(target.grant.spaceId, report.pointId),
        object,
        lockDay(target.grant, now),
      ).then(
        () => stored.push(target),
        (error) => failed.push({ target, error }),
      ),
    ),
  );
  if (stored.length === 0) throw failed[0]!.error;
  const [made, ...others] = targets.filter((target) => stored.includes(target));
  await services.db.withScope(scope, async (tx) => {
    const locked = (await lockRun(tx, runId))!;
    if (locked.state === "ended") throw new Problem("request.conflict", "This run has ended.");
    ofThisAttempt(locked, report.attempt);
    for (const { target, error } of failed) await leaveOut(tx, run, target, error, now);
    await insertPoint(tx, {
      id,
      clientId: run.clientId,
      sourceId: run.sourceId,
      runId,
      depotId: made!.depot.id,
      moment: run.startedAt ?? now,
      root: Buffer.from(report.root, "hex"),
      ...report.counts,
      addedBytes: report.figures.storedBytes + object.length,
      objectBytes: object.length,
      lockedUntil: lockDay(made!.grant, now) ?? null,
    });
    for (const { depot, grant } of others)
      await insertCopy(
        tx,
        {
          pointId: id,
          depotId: depot.id,
          clientId: run.clientId,
          objectBytes: object.length,
          lockedUntil: lockDay(grant, now) ?? null,
        },
        now,
      );
    for (const target of stored) {
      const { depot, grant } = target;
      await settleObject(tx, pointOf(target, id), { runId });
      await countSpace(tx, grant.spaceId, object.length);
      await noteRunDepot(tx, runId, depot.id, { state: "kept" });
      if (grant.lockDays > 0) await askLocks(tx, depot.id, run.clientId);
    }
    await closeBackup(tx, locked, report, now);
    await askCarries(tx, run, made!.depot.id);
  });
}

/** Asks that packs of earlier runs on which a locked point builds are kept as long as it. */
const askLocks = (tx: Tx, depotId: DepotId, clientId: ClientId) =>
  enqueue(tx, "locks", { depotId, clientId }, `locks ${depotId} ${clientId}`);

/** Asks that what the run's point lacks be made up for: by policy, and for depots that could not take part. */
async function askCarries(tx: Tx, run: Run, fromDepot: string): Promise<void> {
  const source = await sourceById(tx, run.sourceId);
  const missed = (await depotsOfRun(tx, run.id))
    .filter((depot) => depot.state !== "kept")
    .map((depot) => depot.depotId);
  for (const toDepot of new Set([...(source?.rules?.where.carryTo ?? []), ...missed]))
    if (toDepot !== fromDepot) await askCarry(tx, { clientId: run.clientId, fromDepot, toDepot });
}

/** Good points that an alarm locks, and for how long. */
const LOCKED_POINTS = 5;
const LOCKED_DAYS = 30;

/**
 * Something seems to eat a source's files: nothing of it is dropped or purged until a person has looked, and the last good
 * points are locked. One alarm at a time; a second burst belongs to the first.
 */
async function raiseAlarm(
  tx: Tx,
  run: Run,
  burst: Pick<BurstEvidence, "changedShare" | "denserShare" | "folder">,
  pointId: string,
  now: Date,
): Promise<void> {
  if ((await holdsOf(tx, run.sourceId)).some((hold) => hold.evidence)) return;
  const good = (await pointsOf(tx, run.sourceId)).filter(
    (point) => !point.droppedAt && point.id.toString("hex") !== pointId,
  );
  const before = good[0] ?? null;
  await placeHold(tx, {
    id: randomUUID(),
    clientId: run.clientId,
    sourceId: run.sourceId,
    pointId: null,
    reason: `Alarm: ${percent(burst.changedShare)} of the files changed in one run, most in ${burst.folder}. Recovery points are not dropped until the alarm is dismissed.`,
    placedBy: RUNNER.actor,
    placedAt: now,
    evidence: {
      ...burst,
      before: before?.id.toString("hex") ?? null,
      beforeMoment: before?.moment.toISOString() ?? null,
      runId: run.id,
    },
  });
  const until = new Date(now.getTime() + LOCKED_DAYS * 86_400_000);
  const locked = good.slice(0, LOCKED_POINTS);
  await lockPoints(
    tx,
    locked.map((point) => point.id),
    until,
  );
  for (const depotId of new Set(locked.map((point) => point.depotId)))
    await askLocks(tx, depotId, run.clientId);
  await record(
    tx,
    { ...RUNNER, at: now },
    run.clientId,
    "raised an alarm",
    (await sourceById(tx, run.sourceId))?.name ?? "",
    {
      ...burst,
      run: run.id,
      lockedPoints: locked.length,
      until,
    },
  );
}

const percent = (share: number): string => `${Math.round(share * 100)} %`;

async function closeBackup(tx: Tx, run: Run, report: PointReport, now: Date): Promise<void> {
  const usual = await usualChanges(tx, run.sourceId);
  const { files } = report.counts;
  const { changed, denser, removed, renamed, busiestFolder } = report.figures;
  const burst = findBurst({ files, changed, denser, removed, renamed }, usual);
  const folder = busiestFolder ?? "/";
  const said = burst
    ? `${percent(burst.changedShare)} of ${counted(files, "file")} changed in this run, and ${percent(burst.denserShare)} of those became unreadable; most are in ${folder}.`
    : null;
  if (burst) {
    await raiseAlarm(tx, run, { ...burst, folder }, report.pointId, now);
    await appendLog(tx, run, [
      { at: now, level: "caution", code: "content.mass-change", path: folder, message: said! },
    ]);
  }
  const first = usual.length === 0 && report.figures.filesUnchanged === 0;
  const failed = (await depotsOfRun(tx, run.id)).find((depot) => depot.state === "failed");
  const code: Code | null = report.code && isCode(report.code) ? report.code : null;
  await finishRun(
    tx,
    run,
    {
      outcome: burst || report.cautions > 0 || failed ? "caution" : "clean",
      code: burst ? "content.mass-change" : (code ?? failed?.code ?? null),
      message:
        [said, failed ? `${failed.depotName}: ${failed.message}` : null].filter(Boolean).join(" ") || null,
      figures: {
        ...report.figures,
        ...report.counts,
        cautions: report.cautions,
        first,
        point: report.pointId,
        burst: burst ? { ...burst, folder } : null,
      },
    },
    now,
  );
  await enqueue(tx, "retention", { sourceId: run.sourceId }, `retention ${run.sourceId}`);
}
