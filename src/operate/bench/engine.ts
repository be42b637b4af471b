import { benchDisk, packOnce } from "./disk";
import type { ENGINE_PARTS } from "./engine-parts";
import { benchFiles, benchRestore } from "./files";
import { indexOf, restoreOnce, storeOnce } from "./once";
import { type Part, runMeasuring } from "./report";
import { benchVersions } from "./versions";

/**
 * The program that measures the engine: begun with the agent's settings, and with no more in it than an agent has, since what is
 * loaded takes memory and time.
 */
const PARTS: Record<(typeof ENGINE_PARTS)[number], Part> = {
  files: benchFiles,
  restore: benchRestore,
  versions: benchVersions,
  disk: benchDisk,
};
/** One thing alone, for a part that measures a program of its own. */
const ALONE: Record<string, (...about: string[]) => Promise<void>> = {
  "store-once": (tree, depot, state, root) => storeOnce(tree!, depot!, state!, root),
  "restore-once": (depot, root, target) => restoreOnce(depot!, root!, target!),
  "index-of": (depot) => indexOf(depot!),
  "pack-once": (begins) => packOnce(begins!),
};

const [, , name, ...about] = process.argv;
if (ALONE[name!]) await ALONE[name!]!(...about);
else await runMeasuring((measure) => measure(PARTS[name as keyof typeof PARTS]));
process.exit(0);
