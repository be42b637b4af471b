import { appendFileSync, mkdirSync, readdirSync, statSync } from "node:fs";
import { cpus } from "node:os";
import { join } from "node:path";
import {
  BenchDepot,
  bringBack,
  type Figure,
  figure,
  inLeftFolder,
  leastOf,
  makeTree,
  rounds,
  say,
  seconds,
  shell,
  store,
} from "./ground";

/** Changes one file in a hundred. */
function changeOneInAHundred(root: string): number {
  let count = 0;
  let changed = 0;
  const visit = (folder: string) => {
    for (const entry of readdirSync(folder, { withFileTypes: true })) {
      const path = join(folder, entry.name);
      if (entry.isDirectory()) visit(path);
      else if (entry.isFile() && count++ % 100 === 0) {
        appendFileSync(path, "\nchanged\n");
        changed += 1;
      }
    }
  };
  visit(root);
  return changed;
}

const PASS = "-pass pass:bench -pbkdf2";
const pipelineOf = (folder: string, archive: string) =>
  shell(`tar c -C ${folder} tree 2>/dev/null | zstd -1 -T0 | openssl enc -aes-256-ctr ${PASS} > ${archive}`);
const describe = ({ files, bytes }: { files: number; bytes: number }) =>
  say(
    `${files.toLocaleString("en-GB")} files, ${(bytes / 1024 ** 3).toFixed(2)} GiB; ${cpus()[0]?.model.trim()}, ${cpus().length} cores; ${rounds} rounds, the best counts`,
  );
/** What a round took beside its pipeline: the machine's speed changes from minute to minute, and the best of each may be of two. */
const sayRound = (what: string, took: number, pipeline: number) =>
  say(
    `  ${what}: ${took.toFixed(2)} s, the pipeline ${pipeline.toFixed(2)} s (${(took / pipeline).toFixed(2)})`,
  );

/** First, unchanged and slightly changed runs over a Unix tree. */
export const benchFiles = (): Promise<Figure[]> =>
  inLeftFolder(async (folder) => {
    const tree = join(folder, "tree");
    describe(makeTree(tree));
    const archive = join(folder, "archive");
    let depot = new BenchDepot(join(folder, "depot"));
    let before = null as unknown as Awaited<ReturnType<typeof store>>;
    let first = Number.POSITIVE_INFINITY;
    let pipeline = Number.POSITIVE_INFINITY;
    for (let round = 0; round < rounds; round += 1) {
      // each begins when the disk has what was written before
      shell("sync");
      const packed = await seconds(() => pipelineOf(folder, archive));
      depot = new BenchDepot(join(folder, `depot-${round}`));
      shell("sync");
      const stored = await seconds(async () => {
        before = await store(depot, tree, null);
      });
      sayRound("first run", stored, packed);
      [first, pipeline] = [Math.min(first, stored), Math.min(pipeline, packed)];
    }
    say(
      `  stored ${(before.stored.storedBytes / 1024 ** 2).toFixed(0)} MiB in ${before.stored.packs} packs; the pipeline's archive has ${(statSync(archive).size / 1024 ** 2).toFixed(0)} MiB`,
    );
    const find = await leastOf(rounds + 1, () => shell(`find ${tree} -printf '%s %T@\\n'`));
    const unchanged = await leastOf(rounds + 1, async () => {
      await store(depot, tree, before.tree);
    });
    const count = changeOneInAHundred(tree);
    shell("sync");
    let third = before;
    const changed = await seconds(async () => {
      third = await store(depot, tree, before.tree);
    });
    const added = (third.stored.storedBytes / 1024 ** 2).toFixed(0);
    return [
      figure("first run", "s", first, "tar | zstd -1 -T0 | openssl", pipeline, 1),
      figure("unchanged run", "s", unchanged, "the first run", first, 0.1),
      figure("unchanged run", "s", unchanged, "find -printf '%s %T@'", find, 6),
      figure(`1 % changed (${count} files, ${added} MiB added)`, "s", changed, "the first run", first, 0.1),
    ];
  });

/** The restore of the same tree into an empty folder. */
export const benchRestore = (): Promise<Figure[]> =>
  inLeftFolder(async (folder) => {
    const tree = join(folder, "tree");
    describe(makeTree(tree));
    const archive = join(folder, "archive");
    pipelineOf(folder, archive);
    const depot = new BenchDepot(join(folder, "depot"));
    const { root } = await store(depot, tree, null);
    let restore = Number.POSITIVE_INFINITY;
    let unpack = Number.POSITIVE_INFINITY;
    const unpackInto = (out: string) => {
      mkdirSync(out);
      shell(`openssl enc -d -aes-256-ctr ${PASS} < ${archive} | zstd -d | tar x -C ${out}`);
    };
    for (let round = 0; round < rounds; round += 1) {
      const out = join(folder, `out-${round}`);
      // what was written before is on the disk, and neither is always the first
      let [unpacked, restored] = [0, 0];
      const turns = [
        async () => {
          unpacked = await seconds(() => unpackInto(`${out}-unpacked`));
        },
        async () => {
          restored = await seconds(() => bringBack(depot, root, out));
        },
      ];
      for (const turn of round % 2 ? turns : turns.toReversed()) {
        shell("sync");
        await turn();
      }
      sayRound("restore", restored, unpacked);
      [restore, unpack] = [Math.min(restore, restored), Math.min(unpack, unpacked)];
      shell(`diff -rq --no-dereference ${tree} ${out}`);
    }
    return [figure("restore", "s", restore, "openssl -d | zstd -d | tar x", unpack, 1)];
  });
