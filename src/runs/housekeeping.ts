import { change } from "@/db/scope";
import { deleteOldSessions } from "@/db/sessions";
import { KEPT_HOURS } from "@/server/api/idempotency";
import type { Services } from "@/server/services";

/**
 * Deletes what only mattered for a while: answers kept for repeated requests after a day, and counts of attempts and
 * sessions that have expired.
 */
export async function keepHouse(services: Services): Promise<void> {
  const now = services.now();
  await services.db.withScope({ role: "system" }, async (tx) => {
    await change(
      tx,
      `delete from idempotency_keys where created_at < $1::timestamptz - interval '${KEPT_HOURS} hours'`,
      [now],
    );
    await change(tx, "delete from rate_limits where expire < $1", [now.getTime()]);
    await deleteOldSessions(tx, now);
  });
}
