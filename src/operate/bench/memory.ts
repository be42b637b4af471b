import { spawnSync } from "node:child_process";
import { readFileSync } from "node:fs";
import { join } from "node:path";
import { compileSelection } from "@/core/selection/selection";
import { FilesReader } from "@/sources/files/reader";
import { storeSnapshot } from "@/sources/snapshot";
import { StoreWriter } from "@/store/writer";
import { BenchDepot, bringBack, type Figure, figure, inFolder, makeTree, say } from "./ground";

const LIMIT_MIB = 400;

/** The most memory that a program of its own takes for a first run, and for a restore, with the agent's own settings. */
export const benchMemory = (): Promise<Figure[]> =>
  inFolder(async (folder) => {
    const tree = join(folder, "tree");
    const { files, bytes } = makeTree(tree);
    say(`${files.toLocaleString("en-GB")} files, ${(bytes / 1024 ** 3).toFixed(2)} GiB`);
    const depot = join(folder, "depot");
    const [stored, root] = inProgram("--store-once", tree, depot);
    const [restored] = inProgram("--restore-once", depot, root!, join(folder, "back"));
    return [
      figure("memory of a first run", "MiB", Number(stored), "its limit", LIMIT_MIB, 1),
      figure("memory of a restore of all of it", "MiB", Number(restored), "its limit", LIMIT_MIB, 1),
    ];
  });

/** The words that this program says when it does one thing alone, with the agent's settings. */
function inProgram(...what: readonly string[]): string[] {
  const { stdout, status, stderr } = spawnSync(
    process.execPath,
    [...AGENT_FLAGS, process.argv[1]!, ...what],
    {
      encoding: "utf8",
      env: { ...process.env, MALLOC_ARENA_MAX: "2" },
    },
  );
  if (status !== 0) throw new Error(stderr);
  return stdout.trim().split(" ");
}

/** As in bin/agent. */
const AGENT_FLAGS = ["--max-old-space-size=192", "--max-semi-space-size=4"];

/** Of this program alone: what `getrusage` tells begins with what the program had that started it. */
const mostMemory = (): string =>
  (Number(/VmHWM:\s+(\d+)/.exec(readFileSync("/proc/self/status", "utf8"))![1]) / 1024).toFixed(1);

/** The program of its own: stores a folder; prints the most memory that it took, MiB, and the root of the tree. */
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
