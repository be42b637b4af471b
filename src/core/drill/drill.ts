import type { DepotId } from "../ids";
import { formatBytes } from "../units/bytes";
import { counted, formatDuration } from "../units/duration";

/**
 * Drills: a restore done on purpose, by the runner itself, to prove that a recovery point restores. What came out is read
 * from the disk again and held against what was read at the source.
 */

/** A drill restores so much at most; of a larger point a part, file by file, by chance. */
export const DRILL_MOST_BYTES = 1024 ** 3;

/**
 * Which files of a point a drill restores. All of a point that is small enough; of a larger one each file with the same
 * chance (0 to below 1, of the file), and none that alone is more than the most. Sizes in bytes.
 */
export function drillPicks(
  pointBytes: number,
  most = DRILL_MOST_BYTES,
): { readonly whole: boolean; readonly takes: (chance: number, size: number) => boolean } {
  if (pointBytes <= most) return { whole: true, takes: () => true };
  const share = most / pointBytes;
  return { whole: false, takes: (chance, size) => chance < share && size <= most };
}

/**
 * Which of a source's points (newest first) the next drill takes: turn and turn about the newest and one of the older, by
 * chance (0 to below 1). Points that lie longer are to be proven too.
 */
export function drillPoint<Point>(points: readonly Point[], drillsBefore: number, chance: number): Point {
  const newest = points[0];
  if (newest === undefined) throw new RangeError("there is no recovery point to drill");
  if (drillsBefore % 2 === 0 || points.length === 1) return newest;
  return points[1 + Math.floor(chance * (points.length - 1))]!;
}

/** What a drill found, as it stands in its run. */
export interface DrillFigures {
  readonly depotId: DepotId;
  readonly depotName: string;
  readonly pointId: string;
  /** The moment of the point, ISO 8601. */
  readonly moment: string;
  readonly files: number;
  readonly bytes: number;
  /** Of so many in the point. */
  readonly ofFiles: number;
  readonly ofBytes: number;
  /** All of the point was restored, not a part by chance. */
  readonly whole: boolean;
  /** Entries that did not come back as they were. */
  readonly differing: number;
  readonly milliseconds: number;
  /** BLAKE3, in hex, of the list of all files with their own BLAKE3, a line each as `b3sum` writes it. */
  readonly evidence: string;
}

/** `1,204 files, 380 MB, all of it, in 12 s; every byte as it was`. */
export function drillSentence(figures: Partial<DrillFigures>): string {
  const { files = 0, bytes = 0, ofFiles = 0, whole = true, differing = 0, milliseconds = 0 } = figures;
  const of = whole ? "all of the point" : `by chance from ${ofFiles.toLocaleString("en-GB")} files`;
  const found =
    differing === 0
      ? "every byte as it was"
      : `${counted(differing, "item")} ${differing === 1 ? "differs" : "differ"} from the recovery point`;
  const took = milliseconds < 1000 ? "under a second" : formatDuration(milliseconds);
  return `${counted(files, "file")}, ${formatBytes(bytes)}, ${of}, in ${took}; ${found}`;
}
