import { mkdirSync, readFileSync, writeFileSync } from "node:fs";
import { join } from "node:path";
import { AgentState } from "@/agent/state";
import { compileSelection } from "@/core/selection/selection";
import { readAhead } from "@/sources/files/listing-ahead";
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
    const figures = await takenBy("", tree, join(folder, "of-tree"));
    const flat = join(folder, "flat");
    makeFlat(flat);
    return [
      ...figures,
      ...(await takenBy(`, ${FLAT_FILES / 1000},000 files in one folder`, flat, join(folder, "of-flat"))),
    ];
  });

/** Files of one folder, as a spool or a cache has them. */
const FLAT_FILES = 300_000;
function makeFlat(folder: string): void {
  mkdirSync(folder);
  for (let i = 0; i < FLAT_FILES; i += 1) writeFileSync(join(folder, `message-${i}.eml`), `message ${i}\n`);
}

/** The memory of a first run, one that finds nothing changed, and a restore of all. */
async function takenBy(what: string, tree: string, folder: string): Promise<Figure[]> {
  mkdirSync(folder);
  const depot = join(folder, "depot");
  const state = join(folder, "state");
  const memory = (name: string, taken: string | undefined) =>
    figure(`memory of ${name}${what}`, "MB", Number(taken), "its limit", LIMIT_MB, 1);
  const [stored, root] = await inProgram("--store-once", tree, depot, state);
  const [unchanged] = await inProgram("--store-once", tree, depot, state, root!);
  const [restored] = await inProgram("--restore-once", depot, root!, join(folder, "back"));
  return [
    memory("a first run", stored),
    memory("an unchanged run", unchanged),
    memory("a restore of all", restored),
  ];
}

/** Of this program alone: what `getrusage` tells begins with what the program had that started it. */
const mostMemory = (): string =>
  (Number(/VmHWM:\s+(\d+)/.exec(readFileSync("/proc/self/status", "utf8"))![1]) * 1.024e-3).toFixed(1);

const SOURCE = "bench";

/**
 * The program of its own: stores a folder, and remembers its tree as an agent does; prints the most memory that it took, MB,
 * and the root of the tree.
 *
 * @param root that of the tree that the run before remembered
 */
export async function storeOnce(
  tree: string,
  folder: string,
  remembered: string,
  root?: string,
): Promise<void> {
  const depot = new BenchDepot(folder);
  const state = new AgentState(remembered);
  const previous = root ? state.openTree(SOURCE, Buffer.from(root, "hex")) : null;
  const memory = state.newTree(SOURCE, previous);
  // no index is held: an agent's lies in the console
  const writer = new StoreWriter(depot.keys, {
    known: async (ids) => ids.map(() => previous !== null),
    putPack: (packId, parts) => depot.putPack(packId, parts, { ids: [], contentBytes: 0 }),
  });
  const what = { folders: ["/"], include: [], exclude: [] };
  const result = await storeSnapshot({
    reader: previous
      ? readAhead({ root: tree, passOver: [], folders: what.folders, what })
      : new FilesReader(tree),
    writer,
    keys: depot.keys,
    folders: what.folders,
    selector: compileSelection(what),
    previous,
    keepNode: (id, bytes) => memory.keep(id, bytes),
    note: () => {},
    progress: { items: 0, bytes: 0 },
    signal: new AbortController().signal,
  });
  await writer.close();
  memory.commit(result.root);
  console.log(mostMemory(), Buffer.from(result.root).toString("hex"));
}

/** The same for a restore, which finds out by itself what lies in which pack. */
export async function restoreOnce(folder: string, root: string, target: string): Promise<void> {
  const depot = new BenchDepot(folder);
  await depot.learn();
  await bringBack(depot, Buffer.from(root, "hex"), target);
  console.log(mostMemory());
}
