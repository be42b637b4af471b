import type { Tx } from "@/db/scope";

/** From which depot to which a client's points are carried. */
export interface CarryRoute {
  readonly clientId: string;
  readonly fromDepot: string;
  readonly toDepot: string;
}

/** Asks for a carry; one that waits already is enough. */
export const askCarry = (tx: Tx, route: CarryRoute) =>
  tx.query("select enqueue('carry', $1::json, $2)", [
    JSON.stringify(route),
    `carry ${route.clientId} ${route.fromDepot} ${route.toDepot}`,
  ]);
