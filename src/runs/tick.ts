import { randomUUID } from "node:crypto";
import { nextRuns } from "@/core/schedule/schedule";
import { notify } from "@/db/base/notify";
import type { Tx } from "@/db/base/scope";
import {
  appendLog,
  insertDueRuns,
  lapsedRuns,
  passedByRuns,
  type Run,
  returnRun,
  runById,
} from "@/db/runs/runs";
import { type DueSource, dueSources, setNextDues, sourcesAfter } from "@/db/sources/sources";
import type { Services } from "@/server/base/services";
import { finishRun } from "./ending";
import { ATTEMPTS } from "./run-depots";

export const LEASE_MS = 60_000;
/** How long a run waits for a machine whose policy does not make up for missed times. */
const PATIENCE_MS = 60 * 60_000;

/** Makes the runs whose time has come. Several tickers do no harm: each source is taken by one of them. */
export async function tickSchedules(services: Services): Promise<number> {
  const now = services.now();
  return services.db.withScope({ role: "system" }, async (tx) => {
    const due = await dueSources(tx, now);
    const plans = due.map((source) => {
      const options = { anchor: source.nextDueAt, sourceId: source.id };
      const { when } = source.rules;
      const just = new Date(source.nextDueAt.getTime() - 1);
      return {
        source,
        next: nextRuns(when, source.zone, now, 1, options)[0]?.at ?? null,
        pass: nextRuns(when, source.zone, just, 1, {
          ...options,
          anchor: source.lastDueAt ?? source.nextDueAt,
        })[0]?.pass,
      };
    });
    await setNextDues(
      tx,
      plans.map(({ source, next }) => ({ id: source.id, nextDueAt: next, lastDueAt: source.nextDueAt })),
    );
    const starting = [];
    for (const { source, pass } of plans) {
      if (!source.reachable || !source.keyUsable) continue;
      if (source.waitingRun) {
        // it was not missed: its depot is away by plan, and the one run that waits is enough
        if (source.depotsAway || source.waitingCause !== "schedule") continue;
        await endAsMissed(tx, (await runById(tx, source.waitingRun))!, now, "the next one was due");
      }
      starting.push(dueRun(source, source.nextDueAt, "schedule", pass ?? "incremental"));
    }
    await make(tx, starting);
    return starting.length;
  });
}

type Starting = Parameters<typeof insertDueRuns>[1][number];
const dueRun = (
  source: Pick<DueSource, "id" | "clientId" | "machineId">,
  dueAt: Date,
  cause: Run["cause"],
  pass: "incremental" | "full",
): Starting => ({
  id: randomUUID(),
  clientId: source.clientId,
  sourceId: source.id,
  machineId: source.machineId,
  cause,
  dueAt,
  request: { pass },
});

async function make(tx: Tx, starting: readonly Starting[]): Promise<void> {
  if (starting.length === 0) return;
  await insertDueRuns(tx, starting);
  for (const run of starting)
    await notify(tx, {
      kind: "run",
      clientId: run.clientId,
      id: run.id,
      machineId: run.machineId ?? undefined,
    });
}

/** Makes the runs of policies that follow another one whose runs have all ended. */
export async function tickFollowers(services: Services): Promise<number> {
  const now = services.now();
  return services.db.withScope({ role: "system" }, async (tx) => {
    const ready = (await sourcesAfter(tx)).filter((source) => source.reachable && source.keyUsable);
    await make(
      tx,
      ready.map((source) => {
        // one that ended since, or by a clock that is ahead, would seem not to have been followed
        const dueAt = new Date(Math.max(now.getTime(), source.ledUntil.getTime() + 1));
        return dueRun(source, dueAt, "after", "incremental");
      }),
    );
    return ready.length;
  });
}

/** Ends runs whose machine was not there at their time, where the policy does not make up for it. */
export async function endPassedBy(services: Services): Promise<number> {
  const now = services.now();
  return services.db.withScope({ role: "system" }, async (tx) => {
    const passed = await passedByRuns(tx, new Date(now.getTime() - PATIENCE_MS));
    for (const run of passed) await endAsMissed(tx, run, now, "an hour had passed");
    return passed.length;
  });
}

/** A run that nothing could start at its time. */
async function endAsMissed(tx: Tx, run: Run, now: Date, before: string): Promise<void> {
  await finishRun(
    tx,
    run,
    {
      outcome: "missed",
      code: run.machineId ? "machine.silent" : null,
      message: run.machineId
        ? `The machine did not start the run before ${before}.`
        : `The runner did not start it before ${before}.`,
      figures: {},
    },
    now,
  );
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
    const message = "Stopped while its agent was disconnected.";
    await finishRun(tx, run, { outcome: "stopped", code: "run.stopped", message, figures: {} }, now);
    return;
  }
  if (run.attempt >= ATTEMPTS) {
    await finishRun(tx, run, { outcome: "failed", code: "run.given-up", message: null, figures: {} }, now);
    return;
  }
  await returnRun(tx, run.id);
  await appendLog(tx, run, [
    {
      at: now,
      level: "info",
      code: "machine.lost-run",
      path: null,
      message: `Attempt ${run.attempt} was interrupted; the run is repeated.`,
    },
  ]);
  await notify(tx, {
    kind: "run",
    clientId: run.clientId,
    id: run.id,
    machineId: run.machineId ?? undefined,
  });
}
