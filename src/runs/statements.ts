import { nextSending, periodSent } from "@/core/statement/sending";
import type { Tx } from "@/db/base/scope";
import { clientById } from "@/db/clients/clients";
import { dueSending, noteSent } from "@/db/notices/statements";
import { RUNNER, record } from "@/server/access/who";
import type { Services } from "@/server/base/services";
import { sendStatement } from "@/server/statements/statement-sending";

/** How long a statement that could not be made waits for another try. */
const AGAIN_MS = 60 * 60_000;

/**
 * Puts the statements whose time has come on their way, each in a transaction of its own. Times that went by while
 * nothing ran are made up for once, with the newest period; one that cannot be made is reported and holds up no other.
 */
export async function sendDueStatements(
  services: Services,
  report: (error: unknown) => void,
): Promise<number> {
  const system = { role: "system" } as const;
  for (let sent = 0; ; ) {
    const now = services.now();
    const due = await services.db.withScope(system, (tx) => dueSending(tx, now));
    if (!due) return sent;
    try {
      sent += await services.db.withScope(system, (tx) => sendOne(tx, now));
    } catch (error) {
      report(error);
      await services.db.withScope(system, (tx) =>
        noteSent(tx, due.clientId, new Date(now.getTime() + AGAIN_MS)),
      );
    }
  }
}

/** Sends the one that is due first; 0 when another sender has it. */
async function sendOne(tx: Tx, now: Date): Promise<0 | 1> {
  const due = await dueSending(tx, now);
  if (!due) return 0;
  const client = (await clientById(tx, due.clientId))!;
  const days = periodSent(due.every, client.zone, now);
  await sendStatement(tx, client, days, due.recipients, due.paper, now);
  await noteSent(tx, client.id, nextSending(due, client.zone, now));
  await record(tx, { ...RUNNER, at: now }, client.id, "sent a statement", client.name, {
    from: days.firstDay,
    to: days.lastDay,
    recipients: due.recipients,
  });
  return 1;
}
