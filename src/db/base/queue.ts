import type { ClientBase } from "pg";
import { z } from "zod";
import { CHECK_DEPTHS } from "../runs/checks";
import type { Tx } from "./scope";

/**
 * The jobs of the queue and what each is told: one table, from which the runner's handlers and whoever asks for a job have
 * their types. What is read from the queue is parsed by it.
 */
const nothing = z.object({});
const space = z.object({ depotId: z.uuid(), clientId: z.uuid() });
export const JOBS = {
  retention: z.object({ sourceId: z.uuid() }),
  locks: space,
  purge: nothing,
  checks: z.object({ depth: z.enum(CHECK_DEPTHS) }),
  check: z.object({ checkId: z.uuid() }),
  carries: nothing,
  carry: z.object({ clientId: z.uuid(), fromDepot: z.uuid(), toDepot: z.uuid() }),
  nights: nothing,
  drills: nothing,
  usage: nothing,
  look: nothing,
  housekeeping: nothing,
} as const;
export type JobName = keyof typeof JOBS;
export type JobPayload<Name extends JobName> = z.output<(typeof JOBS)[Name]>;

/** What does each job. */
export type JobHandlers = { readonly [Name in JobName]: (payload: JobPayload<Name>) => Promise<void> };

/** Puts a job into the runner's queue; one of the same key that waits already is enough. */
export const enqueue = async <Name extends JobName>(
  tx: Tx,
  name: Name,
  payload: JobPayload<Name>,
  key: string,
): Promise<void> => {
  await tx.query("select enqueue($1, $2::json, $3)", [name, JSON.stringify(payload), key]);
};

/**
 * What a queue holds that nobody will finish: workers that hold jobs or queues longer than some seconds and are not among
 * those that are there; jobs that failed for good some days ago. Those whose key was given to a newer job count as such, too.
 */
export async function leftInQueue(
  client: Pick<ClientBase, "query">,
  there: readonly string[],
  freshSeconds: number,
  days: number,
): Promise<{ readonly gone: string[]; readonly dead: string[] }> {
  const held = await client.query<{ worker: string }>(
    `select distinct worker from (
       select locked_by as worker, locked_at from graphile_worker._private_jobs where locked_by is not null
       union all select locked_by, locked_at from graphile_worker._private_job_queues where locked_by is not null) held
     where locked_at < now() - make_interval(secs => $1) and worker <> all($2)`,
    [freshSeconds, there],
  );
  const failed = await client.query<{ id: string }>(
    `select id from graphile_worker._private_jobs where attempts >= max_attempts and locked_at is null
     and updated_at < now() - make_interval(days => $1)`,
    [days],
  );
  return { gone: held.rows.map(({ worker }) => worker), dead: failed.rows.map(({ id }) => String(id)) };
}
