import { randomUUID } from "node:crypto";
import { clientKey } from "@/db/keys";
import { notify } from "@/db/notify";
import { appendLog, endRun, insertRun, lapsedRuns, type Run, returnRun, waitingRun } from "@/db/runs";
import type { Tx } from "@/db/scope";
import { dueSources, setNextDue } from "@/db/sources";
import { nextDue } from "@/server/rules";
import type { Services } from "@/server/services";
import { depotAway, isReachable } from "./request";

export const LEASE_MS = 60_000;
const ATTEMPTS = 3;

/** Makes the runs whose time has come. Several tickers do no harm: each source is taken by one of them. */
export async function tickSchedules(services: Services): Promise<number> {
  const now = services.now();
  return services.db.withScope({ role: "system" }, async (tx) => {
    const due = await dueSources(tx, now);
    let made = 0;
    for (const source of due) {
      const dueAt = source.nextDueAt!;
      await setNextDue(tx, source.id, nextDue({ lastDueAt: dueAt }, source.rules, source.zone, now), dueAt);
      const key = await clientKey(tx, source.clientId);
      if (!key?.confirmedAt || key.destroyedAt || !(await isReachable(tx, source))) continue;
      const waiting = await waitingRun(tx, source.id);
      // it was not missed: its depot is away by plan, and the one run that waits is enough
      if (waiting && (await depotAway(tx, source.id, now))) continue;
      if (waiting?.cause === "schedule") await endAsMissed(tx, waiting, now);
      else if (waiting) continue;
      const id = randomUUID();
      await insertRun(tx, {
        id,
        clientId: source.clientId,
        sourceId: source.id,
        machineId: source.machineId,
        kind: "backup",
        cause: "schedule",
        requestedBy: null,
        dueAt,
        request: {},
      });
      await notify(tx, {
        kind: "run",
        clientId: source.clientId,
        id,
        machineId: source.machineId ?? undefined,
      });
      made += 1;
    }
    return made;
  });
}

/** A run that still waited when the next one's time came. */
async function endAsMissed(tx: Tx, run: Run, now: Date): Promise<void> {
  await endRun(
    tx,
    run.id,
    {
      outcome: "missed",
      code: run.machineId ? "machine.silent" : null,
      message: run.machineId
        ? "The machine did not take the run before the next one was due."
        : "The runner did not come to it before the next one was due.",
      figures: {},
    },
    now,
  );
  await notify(tx, { kind: "run", clientId: run.clientId, id: run.id });
}

/** Takes up again what nobody executes any more: the lease ran out. After three attempts a run is given up. */
export async function takeUpLapsed(services: Services): Promise<number> {
  const now = services.now();
  return services.db.withScope({ role: "system" }, async (tx) => {
    const lapsed = await lapsedRuns(tx, now);
    for (const run of lapsed) await takeUp(tx, run, now);
    return lapsed.length;
  });
}

/** Returns one broken run to the queue, or gives it up. */
export async function takeUp(tx: Tx, run: Run, now: Date): Promise<void> {
  if (run.stopRequestedAt) {
    await endRun(
      tx,
      run.id,
      { outcome: "stopped", code: "run.stopped", message: "Stopped while its agent was gone.", figures: {} },
      now,
    );
  } else if (run.attempt >= ATTEMPTS) {
    await endRun(tx, run.id, { outcome: "failed", code: "run.given-up", message: null, figures: {} }, now);
  } else {
    await returnRun(tx, run.id);
    await appendLog(tx, run, [
      {
        at: now,
        level: "info",
        code: "machine.lost-run",
        path: null,
        message: `Attempt ${run.attempt} was broken off; the run is taken up again.`,
      },
    ]);
  }
  await notify(tx, {
    kind: "run",
    clientId: run.clientId,
    id: run.id,
    machineId: run.machineId ?? undefined,
  });
}
