import { decideRetention, type Retention } from "./decide";

const HOUR_MS = 3_600_000;
const HOURS = 96;
const DAYS = 4400;

/** Points as a source has them that runs every hour and was kept for twelve years: hours at first, then days. */
function inventedPoints(now: Date): { id: string; moment: Date }[] {
  const ages = [
    ...Array.from({ length: HOURS }, (_, i) => i + 1),
    ...Array.from({ length: DAYS }, (_, i) => HOURS + (i + 1) * 24),
  ];
  return ages.map((hours) => ({ id: String(hours), moment: new Date(now.getTime() - hours * HOUR_MS) }));
}

/** Whether points that one clause keeps would be dropped by another: found on invented points, so for any two kinds. */
export function keepsLess(before: Retention, after: Retention, now: Date): boolean {
  if (after.kind === "for-ever") return false;
  // what only the last copies kept would go
  if (before.deleted === "last-copy" && after.deleted !== "last-copy") return true;
  const points = inventedPoints(now);
  const kept = (clause: Retention) =>
    new Set(decideRetention(points, clause, now, "UTC").flatMap((one) => (one.keep ? [one.id] : [])));
  const stays = kept(after);
  for (const id of kept(before)) if (!stays.has(id)) return true;
  return false;
}
