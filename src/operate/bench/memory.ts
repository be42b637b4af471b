import { readFileSync } from "node:fs";
import { join } from "node:path";
import { compileSelection } from "@/core/selection/selection";
import { FilesReader } from "@/sources/files/reader";
import { storeSnapshot } from "@/sources/snapshot";
import { StoreWriter } from "@/store/writer";
import { BenchDepot, bringBack, type Figure, figure, inFolder, makeTree, say } from "./ground";
import { inProgram } from "./program";

const LIMIT_MB = 400;

/** The most memory that a program of its own takes for a first run, and for a restore, with the agent's own settings. */
export const benchMemory = (): Promise<Figure[]> =>
  inFolder(async (folder) => {
    const tree = join(folder, "tree");
    const { files, bytes } = makeTree(tree);
    say(`${files.toLocaleString("en-GB")} files, ${(bytes / 1024 ** 3).toFixed(2)} GiB`);
    const depot = join(folder, "depot");
    const [stored, root] = await inProgram("--store-once", tree, depot);
    const [restored] = await inProgram("--restore-once", depot, root!, join(folder, "back"));
    return [
      figure("memory of a first run", "MB", Number(stored), "its limit", LIMIT_MB, 1),
      figure("memory of a restore of all of it", "MB", Number(restored), "its limit", LIMIT_MB, 1),
    ];
  });

/** Of this program alone: what `getrusage` tells begins with what the program had that started it. */
const mostMemory = (): string =>
  (Number(/VmHWM:\s+(\d+)/.exec(readFileSync("/proc/self/status", "utf8"))![1]) * 1.024e-3).toFixed(1);

/** The program of its own: stores a folder; prints the most memory that it took, MB, and the root of the tree. */
export async function storeOnce(tree: string, folder: string): Promise<void> {
  // no index is held: an agent's lies in the console
  const depot = new BenchDepot(folder);
  const writer = new StoreWriter(depot.keys, {
    known: async (ids) => ids.map(() => false),
    putPack: (packId, parts) => depot.putPack(packId, parts, { ids: [], contentBytes: 0 }),
  });
  const { root } = await storeSnapshot({
    reader: new FilesReader(tree),
    writer,
    keys: depot.keys,
    folders: ["/"],
    selector: compileSelection({ folders: ["/"], include: [], exclude: [] }),
    previous: null,
    keepNode: () => {},
    note: () => {},
    progress: { items: 0, bytes: 0 },
    signal: new AbortController().signal,
  });
  await writer.close();
  console.log(mostMemory(), Buffer.from(root).toString("hex"));
}

/** The same for a restore, which finds out by itself what lies in which pack. */
export async function restoreOnce(folder: string, root: string, target: string): Promise<void> {
  const depot = new BenchDepot(folder);
  await depot.learn();
  await bringBack(depot, Buffer.from(root, "hex"), target);
  console.log(mostMemory());
}
