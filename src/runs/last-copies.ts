import { CodedError } from "@/core/codes";
import type { SourceId } from "@/core/ids";
import { type Point, pointsOf, setLastCopies } from "@/db/points/points";
import { sourceById } from "@/db/sources/sources";
import type { Services } from "@/server/base/services";
import { countDeleted, type Tree } from "@/store/tree/history";

/**
 * Looks, for sources whose policy keeps the last copy of deleted files, which points hold one: each is held against the one
 * after it, once. A key that is not open, or a depot that is away, leaves it for the next time; until then nothing of it is
 * dropped.
 */
export async function noteLastCopies(services: Services, sourceId: SourceId): Promise<number> {
  const system = { role: "system" } as const;
  const points = await services.db.withScope(system, async (tx) => {
    const source = await sourceById(tx, sourceId);
    return source?.rules?.howLong.deleted === "last-copy" ? pointsOf(tx, sourceId) : [];
  });
  const treeOf = async (point: Point): Promise<Tree<Point>> => ({
    point,
    reader: await services.spaces.ofPoint(point),
    root: point.root,
  });
  let looked = 0;
  // newest first: each has the one after it before it in the list
  for (const [i, point] of points.entries()) {
    const after = points[i - 1];
    if (!after || point.lastCopies !== null) continue;
    try {
      const files = await countDeleted(await treeOf(point), await treeOf(after));
      await services.db.withScope(system, (tx) => setLastCopies(tx, point.id, files));
      looked += 1;
    } catch (error) {
      if (!(error instanceof CodedError)) throw error;
    }
  }
  return looked;
}
