import type { WorkerUtils } from "graphile-worker";
import { leftInQueue } from "@/db/base/queue";
import { workersThere } from "@/db/clients/keys";
import { RUNNER_THERE_MS } from "@/server/access/unlocked";
import type { Services } from "@/server/base/services";

/** Younger locks are left alone: their worker may not have said yet that it is there. */
const FRESH_LOCK_SECONDS = 120;
const DEAD_JOB_DAYS = 7;

/**
 * Releases jobs and queues that a killed runner holds, which by themselves would stay held for hours, and deletes jobs that
 * failed for good a week ago. Returns how many workers were released and how many jobs were deleted.
 */
export async function keepQueue(
  services: Services,
  queue: Pick<WorkerUtils, "withPgClient" | "forceUnlockWorkers" | "completeJobs">,
): Promise<{ readonly released: number; readonly deleted: number }> {
  const there = await services.db.withScope({ role: "system" }, (tx) =>
    workersThere(tx, new Date(services.now().getTime() - RUNNER_THERE_MS)),
  );
  const { gone, dead } = await queue.withPgClient((client) =>
    leftInQueue(client, there, FRESH_LOCK_SECONDS, DEAD_JOB_DAYS),
  );
  if (gone.length) await queue.forceUnlockWorkers(gone);
  if (dead.length) await queue.completeJobs(dead);
  return { released: gone.length, deleted: dead.length };
}
