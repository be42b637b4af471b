import { readdirSync, readFileSync, statSync, writeFileSync } from "node:fs";
import { join } from "node:path";
import type { PreviousTree } from "@/sources/store-source";
import {
  BenchmarkDepot,
  type Figure,
  figure,
  inFolder,
  makeTree,
  say,
  shell,
  store,
  WANTED_BYTES,
  WANTED_FILES,
} from "./ground";

const VERSIONS = 10;

/** Changes two files in a hundred: their middle, not only their end. */
function changeTwoInAHundred(root: string, version: number): void {
  let count = 0;
  const visit = (folder: string) => {
    for (const entry of readdirSync(folder, { withFileTypes: true })) {
      const path = join(folder, entry.name);
      if (entry.isDirectory()) visit(path);
      else if (entry.isFile() && (count++ + version * 7) % 50 === 0) {
        const content = readFileSync(path);
        const middle = content.length >> 1;
        writeFileSync(
          path,
          Buffer.concat([
            content.subarray(0, middle),
            Buffer.from(`version ${version}\n`),
            content.subarray(middle),
          ]),
        );
      }
    }
  };
  visit(root);
}

/** Ten versions of a tree with 2 % changed each time, against one version compressed by tar and zstd. */
export const benchVersions = (): Promise<Figure[]> =>
  inFolder(async (folder) => {
    const tree = join(folder, "tree");
    const { files, bytes } = makeTree(
      tree,
      Math.min(WANTED_FILES, 20_000),
      Math.min(WANTED_BYTES, 512 * 1024 ** 2),
    );
    say(
      `${files.toLocaleString("en-GB")} files, ${(bytes / 1024 ** 2).toFixed(0)} MiB, ${VERSIONS} versions`,
    );
    const archive = join(folder, "archive");
    shell(`tar c -C ${folder} tree 2>/dev/null | zstd -1 -T0 > ${archive}`);
    const one = statSync(archive).size / 1024 ** 2;
    const depot = new BenchmarkDepot(join(folder, "depot"));
    let stored = 0;
    let previous: PreviousTree | null = null;
    for (let version = 0; version < VERSIONS; version += 1) {
      if (version > 0) changeTwoInAHundred(tree, version);
      const made = await store(depot, tree, previous);
      stored += made.stored.storedBytes / 1024 ** 2;
      previous = made.tree;
    }
    return [
      figure(`${VERSIONS} versions, 2 % changed each`, "MiB", stored, "one version, tar | zstd -1", one, 1.3),
    ];
  });
