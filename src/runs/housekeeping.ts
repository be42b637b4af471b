import { deleteOldLimits, deleteOldSessions } from "@/db/access/sessions";
import { deleteOldKeys } from "@/db/base/idempotency";
import { KEPT_HOURS } from "@/server/api/idempotency";
import type { Services } from "@/server/base/services";

/**
 * Deletes what only mattered for a while: answers kept for repeated requests after a day, and counts of attempts and
 * sessions that have expired.
 */
export async function keepHouse(services: Services): Promise<void> {
  const now = services.now();
  await services.db.withScope({ role: "system" }, async (tx) => {
    await deleteOldKeys(tx, new Date(now.getTime() - KEPT_HOURS * 3_600_000));
    await deleteOldLimits(tx, now);
    await deleteOldSessions(tx, now);
  });
}
