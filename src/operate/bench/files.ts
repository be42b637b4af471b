import { appendFileSync, mkdirSync, readdirSync, statSync } from "node:fs";
import { cpus } from "node:os";
import { join } from "node:path";
import { medianOf, sideBySide } from "./beside";
import {
  BenchmarkDepot,
  bringBack,
  type Figure,
  figure,
  inLeftFolder,
  makeTree,
  rounds,
  say,
  seconds,
  shell,
  store,
  timed,
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
    `${files.toLocaleString("en-GB")} files, ${(bytes / 1024 ** 3).toFixed(2)} GiB; ${cpus()[0]?.model.trim()}, ${cpus().length} cores; ${rounds} rounds, the median counts`,
  );
/** First, unchanged and slightly changed runs over a Unix tree. */
export const benchFiles = (): Promise<Figure[]> =>
  inLeftFolder(async (folder) => {
    const tree = join(folder, "tree");
    describe(makeTree(tree));
    const archive = join(folder, "archive");
    let depot = null as unknown as BenchmarkDepot;
    let before = null as unknown as Awaited<ReturnType<typeof store>>;
    const first = await sideBySide(
      "first run",
      (round) => {
        depot = new BenchmarkDepot(join(folder, `depot-${round}`));
        return timed(async () => {
          before = await store(depot, tree, null);
        });
      },
      () => timed(() => pipelineOf(folder, archive)),
    );
    say(
      `  stored ${(before.stored.storedBytes / 1024 ** 2).toFixed(0)} MiB in ${before.stored.packs} packs; the pipeline's archive has ${(statSync(archive).size / 1024 ** 2).toFixed(0)} MiB`,
    );
    const unchanged = await sideBySide(
      "unchanged run",
      () =>
        seconds(async () => {
          await store(depot, tree, before.tree);
        }),
      () => seconds(() => shell(`find ${tree} -printf '%s %T@\\n'`)),
      rounds + 2,
    );
    let count = 0;
    let third = before;
    const changed: number[] = [];
    for (let round = 0; round < rounds; round += 1) {
      count = changeOneInAHundred(tree);
      const took = await timed(async () => {
        third = await store(depot, tree, third.tree);
      });
      say(`  1 % changed: ${took.toFixed(2)} s`);
      changed.push(took);
    }
    const added = (third.stored.storedBytes / 1024 ** 2).toFixed(0);
    return [
      figure("first run", "s", first.ours, "tar | zstd -1 -T0 | openssl", first.theirs, 1, first.ratio),
      figure("unchanged run", "s", unchanged.ours, "the first run", first.ours, 0.1),
      figure(
        "unchanged run",
        "s",
        unchanged.ours,
        "find -printf '%s %T@'",
        unchanged.theirs,
        6,
        unchanged.ratio,
      ),
      figure(
        `1 % changed (${count} files, ${added} MiB added)`,
        "s",
        medianOf(changed),
        "the first run",
        first.ours,
        0.1,
      ),
    ];
  });

/** The restore of the same tree into an empty folder. */
export const benchRestore = (): Promise<Figure[]> =>
  inLeftFolder(async (folder) => {
    const tree = join(folder, "tree");
    describe(makeTree(tree));
    const archive = join(folder, "archive");
    pipelineOf(folder, archive);
    const depot = new BenchmarkDepot(join(folder, "depot"));
    const { root } = await store(depot, tree, null);
    const outOf = (round: number) => join(folder, `out-${round}`);
    const restored: string[] = [];
    const restore = await sideBySide(
      "restore",
      (round) => {
        restored.push(outOf(round));
        return timed(() => bringBack(depot, root, outOf(round)));
      },
      (round) =>
        timed(() => {
          const out = `${outOf(round)}-unpacked`;
          mkdirSync(out);
          shell(`openssl enc -d -aes-256-ctr ${PASS} < ${archive} | zstd -d | tar x -C ${out}`);
        }),
    );
    for (const out of restored) shell(`diff -rq --no-dereference ${tree} ${out}`);
    return [
      figure("restore", "s", restore.ours, "openssl -d | zstd -d | tar x", restore.theirs, 1, restore.ratio),
    ];
  });
