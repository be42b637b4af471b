import { enqueue, type JobPayload } from "@/db/base/queue";
import type { Tx } from "@/db/base/scope";

/** From which depot to which a client's points are carried. */
export type CarryRoute = JobPayload<"carry">;

/** Asks for a carry; one that waits already is enough. */
export const askCarry = (tx: Tx, route: CarryRoute): Promise<void> =>
  enqueue(tx, "carry", route, `carry ${route.clientId} ${route.fromDepot} ${route.toDepot}`);
