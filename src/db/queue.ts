import { z } from "zod";
import { CHECK_DEPTHS } from "./checks";
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
