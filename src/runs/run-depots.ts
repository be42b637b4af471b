import { CODES, type Code, CodedError } from "@/core/codes";
import { runDepots, type Where } from "@/core/policy/where";
import { absenceNow } from "@/db/absences";
import { wholePlacesOf } from "@/db/copies";
import { depotById, grantOf } from "@/db/depots";
import { newestPoint, type Point } from "@/db/points";
import { depotsOfRun, noteRunDepot, type RunDepot, setRunDepots, type Target } from "@/db/run-depots";
import { appendLog, type Run } from "@/db/runs";
import type { Tx } from "@/db/scope";

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
        message: `away until ${absence.to.toISOString().slice(0, 16).replace("T", " ")} UTC: ${absence.note}`,
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
  const holding = here.filter(({ depot }) => whole.includes(depot.id));
  // a point that is whole nowhere is no ground to build on: all is read, and what is missing is stored anew
  const targets = holding.length ? holding : here;
  if (newest && holding.length === 0)
    await appendLog(tx, run, [
      {
        at: now,
        level: "info",
        code: "store.damaged",
        path: null,
        message:
          "The newest recovery point is not whole any more: everything is read, and what is missing is stored anew.",
      },
    ]);
  for (const { depot } of here)
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
      message: `${target.depot.name} takes no part in the rest of this run: ${message}. The run goes on to the others, and it is caught up from them.`,
    },
  ]);
}
