import type { Tx } from "./scope";

/** Puts a job into the runner's queue; one of the same name that waits already is enough. */
export const enqueue = async (tx: Tx, task: string, payload: object, name: string): Promise<void> => {
  await tx.query("select enqueue($1, $2::json, $3)", [task, JSON.stringify(payload), name]);
};
