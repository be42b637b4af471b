import { decideRetention, GRACE_DAYS } from "@/core/retention/decide";
import { holdsOf } from "@/db/holds";
import { dropPoint, pointsOf } from "@/db/points";
import { sourceById } from "@/db/sources";
import type { Services } from "@/server/services";
import { RUNNER, record } from "@/server/who";
import { noteLastCopies } from "./last-copies";
import { zoneOf } from "./request";

/**
 * Drops the points of a source that its policy no longer keeps. They stay restorable for the days of grace. Locked points
 * stay until their day, held ones until the hold is lifted.
 */
export async function applyRetention(services: Services, sourceId: string): Promise<number> {
  await noteLastCopies(services, sourceId);
  const now = services.now();
  return services.db.withScope({ role: "system" }, async (tx) => {
    const source = await sourceById(tx, sourceId);
    if (!source?.rules || source.paused) return 0;
    const points = (await pointsOf(tx, sourceId)).filter((point) => !point.droppedAt);
    const decisions = decideRetention(
      points.map((point) => ({
        id: point.id.toString("hex"),
        moment: point.moment,
        lastCopies: point.lastCopies,
      })),
      source.rules.howLong,
      now,
      await zoneOf(tx, source.clientId),
    );
    const holds = await holdsOf(tx, sourceId);
    if (holds.some((hold) => hold.pointId === null)) return 0;
    const stay = new Set([
      ...holds.map((hold) => hold.pointId!.toString("hex")),
      ...points
        .filter((point) => point.lockedUntil && point.lockedUntil > now)
        .map((point) => point.id.toString("hex")),
    ]);
    const leaving = decisions.filter((decision) => !decision.keep && !stay.has(decision.id));
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
