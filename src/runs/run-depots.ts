import { CODES, type Code, CodedError } from "@/core/codes";
import { runDepots, type Where } from "@/core/policy/where";
import { notify } from "@/db/base/notify";
import type { Tx } from "@/db/base/scope";
import { zoneFor } from "@/db/clients/clients";
import { absenceNow } from "@/db/depots/absences";
import { depotById, grantOf } from "@/db/depots/depots";
import { wholePlacesOf } from "@/db/points/copies";
import { newestPoint, type Point } from "@/db/points/points";
import { depotsOfRun, noteRunDepot, type RunDepot, setRunDepots, type Target } from "@/db/runs/run-depots";
import { appendLog, type Run, type RunEnd, returnRun } from "@/db/runs/runs";
import { momentText } from "@/server/inside/moment-label";

/** So often a run is begun at most. */
export const ATTEMPTS = 3;

/** Which depots a run writes to, and the point that it builds on. */
export interface RunPlan {
  readonly targets: readonly Target[];
  /** Null when everything is read: there is no point, or it lacks something. */
  readonly previous: Point | null;
}

/**
 * Decides where a run writes, and notes it. Depots that are away by plan do not take part, nor do those that lack the
 * point on which the run builds, for what is unchanged is not sent again: both are caught up from the others afterwards.
 * Throws `depot.not-reached` when no depot is left.
 */
export async function planRunDepots(tx: Tx, run: Run, where: Where, now: Date): Promise<RunPlan> {
  const here: Target[] = [];
  const noted: Pick<RunDepot, "depotId" | "state" | "message">[] = [];
  const zone = await zoneFor(tx, run.clientId);
  const usual = [where.depotId, ...where.beside];
  for (const depotId of new Set([...usual, ...runDepots(where)])) {
    const grant = await grantOf(tx, depotId, run.clientId);
    const depot = await depotById(tx, depotId);
    if (!grant || !depot) continue;
    const absence = await absenceNow(tx, depotId, now);
    // a place that points are carried to steps in only when none of the usual ones is there
    if (!absence && (usual.includes(depotId) || here.length === 0)) here.push({ depot, grant });
    else if (absence && usual.includes(depotId))
      noted.push({
        depotId,
        state: "away",
        message: `absent until ${momentText(absence.to, zone)} (${zone}): ${absence.note}`,
      });
  }
  if (here.length === 0)
    throw new CodedError(
      "depot.not-reached",
      "none of the policy's depots is granted to this client and there",
    );
  const newest = await newestPoint(
    tx,
    run.sourceId,
    here.map(({ depot }) => depot.id),
  );
  const whole = newest ? await wholePlacesOf(tx, newest.id) : [];
  const whereWhole = here.filter(({ depot }) => whole.includes(depot.id));
  // an earlier attempt of this run failed in these: it starts over in the others, see `startOverElsewhere`
  const failed = (await depotsOfRun(tx, run.id))
    .filter(({ state }) => state === "failed")
    .map(({ depotId }) => depotId);
  const others = here.filter(({ depot }) => !failed.includes(depot.id));
  const startsOver = others.length > 0 && whereWhole.every((target) => !others.includes(target));
  const holding = startsOver ? [] : whereWhole;
  // a point that is whole nowhere is no ground to build on: all is read, and what is missing is stored anew
  const targets = holding.length ? holding : startsOver ? others : here;
  if (newest && whereWhole.length === 0)
    await appendLog(tx, run, [
      {
        at: now,
        level: "info",
        code: "store.damaged",
        path: null,
        message:
          "The newest recovery point has missing data. The run reads everything and stores what is missing.",
      },
    ]);
  for (const { depot } of startsOver ? others : here)
    noted.push(
      targets.some((target) => target.depot === depot)
        ? { depotId: depot.id, state: "writing", message: null }
        : {
            depotId: depot.id,
            state: "behind",
            message: "lacks the newest point; it is caught up afterwards",
          },
    );
  await setRunDepots(tx, run, [
    ...noted.filter((one) => one.state === "writing"),
    ...noted.filter((one) => one.state !== "writing"),
  ]);
  return { targets, previous: holding.length ? newest : null };
}

/**
 * Starts a backup over when every depot that it wrote to failed while others did not take part because they lack the point
 * that it built on: the next attempt reads everything and stores it there. Returns whether it does.
 */
export async function startOverElsewhere(tx: Tx, run: Run, end: RunEnd, now: Date): Promise<boolean> {
  if (run.kind !== "backup" || end.outcome !== "failed" || run.stopRequestedAt || run.attempt >= ATTEMPTS)
    return false;
  if (!end.code?.startsWith("depot.")) return false;
  const depots = await depotsOfRun(tx, run.id);
  const others = depots.filter(({ state }) => state === "behind");
  if (others.length === 0) return false;
  for (const { depotId, depotName } of depots.filter(({ state }) => state === "writing")) {
    const message = end.message ?? CODES[end.code].title;
    await noteRunDepot(tx, run.id, depotId, { state: "failed", code: end.code, message });
    await appendLog(tx, run, [
      {
        at: now,
        level: "caution",
        code: end.code,
        path: null,
        message: `${depotName} is left out of this run: ${message}. The run starts again, reads everything, and stores it in ${others.map((one) => one.depotName).join(", ")}.`,
      },
    ]);
  }
  await returnRun(tx, run.id);
  await notify(tx, {
    kind: "run",
    clientId: run.clientId,
    id: run.id,
    machineId: run.machineId ?? undefined,
  });
  return true;
}

/** The depots that a run still writes to, in order. Throws `depot.not-reached` when there is none. */
export async function targetsOf(tx: Tx, run: Pick<Run, "id" | "clientId">): Promise<Target[]> {
  const targets: Target[] = [];
  for (const { depotId, state } of await depotsOfRun(tx, run.id)) {
    if (state !== "writing") continue;
    const grant = await grantOf(tx, depotId, run.clientId);
    const depot = await depotById(tx, depotId);
    if (grant && depot) targets.push({ grant, depot });
  }
  if (targets.length === 0)
    throw new CodedError("depot.not-reached", "the run has no depot that it could write to");
  return targets;
}

const codeOfError = (error: unknown): Code =>
  error instanceof CodedError ? error.code : "depot.not-reached";

/** Leaves a depot out of the rest of a run, with the reason in its log. */
export async function leaveOut(tx: Tx, run: Run, target: Target, error: unknown, now: Date): Promise<void> {
  const code = codeOfError(error);
  const message = error instanceof Error ? error.message : CODES[code].title;
  await noteRunDepot(tx, run.id, target.depot.id, { state: "failed", code, message });
  await appendLog(tx, run, [
    {
      at: now,
      level: "caution",
      code,
      path: null,
      message: `${target.depot.name} is left out of this run: ${message}. The run continues with the other depots; the missing points are copied afterwards.`,
    },
  ]);
}
