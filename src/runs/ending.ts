import { randomUUID } from "node:crypto";
import { CODES } from "@/core/codes";
import { notify } from "@/db/base/notify";
import type { Tx } from "@/db/base/scope";
import { breakOffRunDepots } from "@/db/runs/run-depots";
import { endRun, insertRun, type Run, type RunEnd, waitingRun } from "@/db/runs/runs";
import { sourceById } from "@/db/sources/sources";
import { noteForNotices } from "@/server/notices/notice-events";

/**
 * Ends a run, whatever it was, and starts what follows from it: who waits hears of it, a failed one that may go better
 * the next time is tried again as Conduct says, and Notices are prepared.
 */
export async function finishRun(tx: Tx, run: Run, end: RunEnd, now: Date): Promise<void> {
  if ((await endRun(tx, run.id, end, now)) === 0) return;
  await breakOffRunDepots(tx, run.id);
  if (run.kind === "backup" && end.outcome === "failed") await tryAgain(tx, run, end, now);
  // of a drill somebody hears when it failed; whoever asked for a restore looks at it anyway
  if (run.kind === "backup" || (run.kind === "drill" && end.outcome === "failed"))
    await noteForNotices(tx, run, end, now);
  await notify(tx, {
    kind: "run",
    clientId: run.clientId,
    id: run.id,
    machineId: run.machineId ?? undefined,
  });
}

/** How often this run was tried before, by itself. */
const triesOf = (run: Run): number => Number(run.request.tries ?? 0);

async function tryAgain(tx: Tx, run: Run, end: RunEnd, now: Date): Promise<void> {
  if (!end.code || !CODES[end.code].retry) return;
  const conduct = (await sourceById(tx, run.sourceId))?.rules?.conduct;
  if (!conduct || triesOf(run) >= conduct.retries || (await waitingRun(tx, run.sourceId))) return;
  await insertRun(tx, {
    id: randomUUID(),
    clientId: run.clientId,
    sourceId: run.sourceId,
    machineId: run.machineId,
    kind: "backup",
    cause: "retry",
    requestedBy: run.requestedBy,
    dueAt: new Date(now.getTime() + conduct.retryMinutes * 60_000),
    request: { pass: run.request.pass ?? "incremental", tries: triesOf(run) + 1 },
  });
}
