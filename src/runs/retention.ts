import type { SourceId } from "@/core/ids";
import { GRACE_DAYS } from "@/core/retention/decide";
import { dropPoint } from "@/db/points/points";
import { sourceById } from "@/db/sources/sources";
import { RUNNER, record } from "@/server/access/who";
import type { Services } from "@/server/base/services";
import { whyKept } from "@/server/inside/kept";
import { noteLastCopies } from "./last-copies";

/**
 * Drops the points of a source that its policy no longer keeps. They stay restorable for the days of grace. Locked points
 * stay until their day, held ones until the hold is lifted.
 */
export async function applyRetention(services: Services, sourceId: SourceId): Promise<number> {
  await noteLastCopies(services, sourceId);
  const now = services.now();
  return services.db.withScope({ role: "system" }, async (tx) => {
    const source = await sourceById(tx, sourceId);
    if (!source) return 0;
    const leaving = [...(await whyKept(tx, source, now)).values()].filter((decision) => !decision.keep);
    const purgeAfter = new Date(now.getTime() + GRACE_DAYS * 86_400_000);
    for (const decision of leaving)
      await dropPoint(tx, Buffer.from(decision.id, "hex"), decision.reason, now, purgeAfter);
    if (leaving.length) {
      await record(tx, { ...RUNNER, at: now }, source.clientId, "dropped recovery points", source.name, {
        points: leaving.length,
        reason: leaving[0]!.reason,
        purgeAfter,
      });
    }
    return leaving.length;
  });
}
