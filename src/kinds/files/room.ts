import { existsSync, statfsSync } from "node:fs";
import { dirname } from "node:path";

/** Bytes that are free for this account on the volume of a path, or of its nearest folder that is there. */
export function freeAt(path: string): number {
  let there = path;
  while (!existsSync(there) && dirname(there) !== there) there = dirname(there);
  const disk = statfsSync(there);
  return disk.bavail * disk.bsize;
}
