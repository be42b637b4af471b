import type { WorkerUtils } from "graphile-worker";
import { workersThere } from "@/db/keys";
import type { Services } from "@/server/services";
import { RUNNER_THERE_MS } from "@/server/unlocked";

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
  const { gone, dead } = await queue.withPgClient(async (client) => {
    const held = await client.query<{ worker: string }>(
      `select distinct worker from (
         select locked_by as worker, locked_at from graphile_worker._private_jobs where locked_by is not null
         union all select locked_by, locked_at from graphile_worker._private_job_queues where locked_by is not null) held
       where locked_at < now() - make_interval(secs => $1) and worker <> all($2)`,
      [FRESH_LOCK_SECONDS, there],
    );
    // those whose key was given to a newer job count as failed for good, too
    const failed = await client.query<{ id: string }>(
      `select id from graphile_worker._private_jobs where attempts >= max_attempts and locked_at is null
       and updated_at < now() - make_interval(days => $1)`,
      [DEAD_JOB_DAYS],
    );
    return { gone: held.rows.map(({ worker }) => worker), dead: failed.rows.map(({ id }) => String(id)) };
  });
  if (gone.length) await queue.forceUnlockWorkers(gone);
  if (dead.length) await queue.completeJobs(dead);
  return { released: gone.length, deleted: dead.length };
}
