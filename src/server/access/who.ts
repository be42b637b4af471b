import type { ClientId } from "@/core/ids";
import { appendTrail } from "@/db/access/trail";
import type { Tx } from "@/db/base/scope";

/** Who does something, when and from where: what the trail wants to know. */
export interface Who {
  readonly actor: string;
  readonly address: string;
  readonly at: Date;
}

/** What the program does by itself. */
export const RUNNER = { actor: "Deep Keep", address: "runner" };

/** Writes one action to the trail, within its transaction. */
export const record = (
  tx: Tx,
  who: Who,
  clientId: ClientId | null,
  action: string,
  subject: string,
  details: Record<string, unknown> = {},
): Promise<void> =>
  appendTrail(tx, { at: who.at, clientId, actor: who.actor, address: who.address, action, subject, details });
