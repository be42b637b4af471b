/** What a run measures about its changes, for *something is eating your files*. */
export interface ChangeFigures {
  readonly files: number;
  /** Files that were there before and whose content differs. */
  readonly changed: number;
  /** Of the changed and renamed files, those that turned as dense as random bytes. */
  readonly denser: number;
  readonly removed: number;
  /** Files that are there under their old name with another ending. */
  readonly renamed: number;
}

export interface Burst {
  readonly changedShare: number;
  readonly denserShare: number;
}

const MINIMUM_FILES = 20;

/**
 * Tells a burst from a busy day: many more files changed than this source is used to, and what they became is dense as
 * random bytes. A photo import is dense but adds files rather than changing them; a software update changes many files
 * but they still compress; a move of folders renames nothing within its folder and changes no content.
 *
 * @param usual shares of changed files in earlier runs (0 to 1), in any order; the first run never counts
 * @returns the evidence, or null
 */
export function findBurst(figures: ChangeFigures, usual: readonly number[]): Burst | null {
  if (figures.files < MINIMUM_FILES || usual.length < 3) return null;
  const touched = figures.changed + figures.renamed;
  const changedShare = Math.min(1, touched / figures.files);
  const denserShare = touched ? figures.denser / touched : 0;
  const sorted = [...usual].sort((a, b) => a - b);
  const high = sorted[Math.floor((sorted.length - 1) * 0.9)]!;
  const unusual = changedShare >= 0.2 && changedShare >= Math.max(0.05, high) * 3;
  return unusual && denserShare >= 0.6 ? { changedShare, denserShare } : null;
}
