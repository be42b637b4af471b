import { mkdirSync, writeFileSync } from "node:fs";
import { join } from "node:path";
import { type Figure, figure, inFolder, makeTree, say } from "./ground";
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
    return [...figures, ...(await takenBy(", a million files in one folder", flat, join(folder, "of-flat")))];
  });

/** Files of one folder, as a spool or a cache has them. */
const FLAT_FILES = 1_000_000;
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
  const [stored, root] = await inProgram("store-once", tree, depot, state);
  const [unchanged] = await inProgram("store-once", tree, depot, state, root!);
  const [restored] = await inProgram("restore-once", depot, root!, join(folder, "back"));
  return [
    memory("a first run", stored),
    memory("an unchanged run", unchanged),
    memory("a restore of all", restored),
  ];
}
