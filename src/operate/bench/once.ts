import { fork } from "node:child_process";
import { once } from "node:events";
import { readFileSync } from "node:fs";
import { AgentState } from "@/agent/state";
import { compileSelection } from "@/core/selection/selection";
import { readAhead } from "@/kinds/files/listing-ahead";
import { FilesReader } from "@/kinds/files/reader";
import { storeSource } from "@/sources/store-source";
import { splitIds } from "@/store/seal/identity";
import { StoreWriter } from "@/store/write/writer";
import { BenchmarkDepot, bringBack } from "./ground";

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
  const depot = new BenchmarkDepot(folder);
  const state = new AgentState(remembered);
  const previous = root ? state.openTree(SOURCE, Buffer.from(root, "hex")) : null;
  const memory = state.newTree(SOURCE, previous);
  // no index is held: an agent's lies in the console
  const writer = new StoreWriter(depot.keys, {
    known: async (ids) => ids.map(() => previous !== null),
    putPack: (packId, parts) => depot.putPack(packId, parts, { ids: [], contentBytes: 0 }),
  });
  const what = { folders: ["/"], include: [], exclude: [] };
  const result = await storeSource({
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

/** The same for a restore. In which pack each chunk lies, another program tells, as the console tells an agent. */
export async function restoreOnce(folder: string, root: string, target: string): Promise<void> {
  const depot = new BenchmarkDepot(folder);
  const index = fork(process.argv[1]!, ["index-of", folder], { execArgv: [], serialization: "advanced" });
  const asked: ((packs: (string | null)[]) => void)[] = [];
  await once(index, "message");
  index.on("message", (packs: (string | null)[]) => asked.shift()!(packs));
  const locate = (ids: readonly Uint8Array[]): Promise<(string | null)[]> =>
    new Promise((told) => {
      asked.push(told);
      index.send(Buffer.concat(ids));
    });
  await bringBack({ keys: depot.keys, locate, open: depot.open }, Buffer.from(root, "hex"), target);
  console.log(mostMemory());
  index.kill();
}

/** The program that knows what lies in which pack, and is asked. */
export async function indexOf(folder: string): Promise<void> {
  const depot = new BenchmarkDepot(folder);
  await depot.learn();
  process.send!([]);
  process.on("disconnect", () => process.exit(0));
  // answers go in the order of the questions
  let before: Promise<unknown> = Promise.resolve();
  process.on("message", (ids: Uint8Array) => {
    before = before.then(async () => process.send!(await depot.locate(splitIds(ids))));
  });
  await once(process, "disconnect");
}
