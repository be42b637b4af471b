import { readFileSync } from "node:fs";
import { AgentState } from "@/agent/state";
import { compileSelection } from "@/core/selection/selection";
import { readAhead } from "@/sources/files/listing-ahead";
import { FilesReader } from "@/sources/files/reader";
import { storeSnapshot } from "@/sources/snapshot";
import { StoreWriter } from "@/store/writer";
import { BenchDepot, bringBack } from "./ground";

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
