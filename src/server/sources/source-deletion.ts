import { GRACE_DAYS } from "@/core/retention/decide";
import type { Consent } from "@/db/access/consents";
import type { Tx } from "@/db/base/scope";
import { holdsOf } from "@/db/points/holds";
import { dropPoint, pointsOf } from "@/db/points/points";
import { assignPolicy, setPaused, sourceById } from "@/db/sources/sources";
import { settleRules } from "../access/rules";
import { record, type Who } from "../access/who";
import { notFound, Problem } from "../base/problem";

/**
 * Deletes a source with its points, as two people agreed: nothing runs any more, and its points are purged when their grace
 * is over; locked ones when their lock is. Throws a conflict while a hold is in force. Returns how many points leave.
 */
export async function deleteSource(tx: Tx, who: Who, consent: Consent): Promise<number> {
  const source = await sourceById(tx, String(consent.request.sourceId));
  if (!source) throw notFound();
  if ((await holdsOf(tx, source.id)).length)
    throw new Problem("request.conflict", `A hold is in force on ${source.name}. Lift it first.`);
  const leaving = (await pointsOf(tx, source.id)).filter((point) => !point.droppedAt);
  const purgeAfter = new Date(who.at.getTime() + GRACE_DAYS * 86_400_000);
  for (const point of leaving) await dropPoint(tx, point.id, "the source was deleted", who.at, purgeAfter);
  await setPaused(tx, source.id, true);
  await assignPolicy(tx, source.id, null);
  await settleRules(tx, source.clientId, who.at);
  await record(tx, who, source.clientId, "deleted a source with its points", source.name, {
    points: leaving.length,
    purgeAfter,
    askedBy: consent.askedByName,
  });
  return leaving.length;
}
