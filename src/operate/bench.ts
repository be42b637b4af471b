import { spawnSync } from "node:child_process";
import {
  appendFileSync,
  cpSync,
  existsSync,
  lstatSync,
  mkdirSync,
  mkdtempSync,
  readdirSync,
  readFileSync,
  rmSync,
  statSync,
  writeFileSync,
} from "node:fs";
import { cpus, tmpdir } from "node:os";
import { join } from "node:path";
import { compileSelection } from "@/core/selection/selection";
import { FilesReader } from "@/sources/files/reader";
import { restoreFiles } from "@/sources/files/writer";
import { type PreviousTree, storeSnapshot } from "@/sources/snapshot";
import { deriveStoreKeys } from "@/store/keys";
import { packName } from "@/store/layout";
import type { PackHolds } from "@/store/pack";
import { LocalFolder } from "@/store/places/local-folder";
import { StoreReader } from "@/store/reader";
import { decodeNode, idKey } from "@/store/tree";
import { StoreWriter } from "@/store/writer";

/**
 * `bin/bench`: the engine of agent and runner on a Unix tree, to a local depot, beside the pipelines that the
 * architecture names, all in one call. Each figure is the best of the rounds, since what disturbs only slows.
 */
interface Figure {
  readonly name: string;
  readonly value: number;
  readonly unit: string;
  readonly against: string;
  readonly againstValue: number;
  readonly ratio: number;
  /** What the ratio should be at most. */
  readonly wanted: number;
  readonly holds: boolean;
}

const WANTED_FILES = Number(process.env.DEEPKEEP_BENCH_FILES ?? 100_000);
const WANTED_BYTES = Number(process.env.DEEPKEEP_BENCH_BYTES ?? 2 * 1024 ** 3);
const json = process.argv.includes("--json");
const rounds = Number(process.env.DEEPKEEP_BENCH_ROUNDS ?? 2);
const say = (line: string) => {
  if (!json) console.log(line);
};

/** Makes a tree of at least 100,000 files from what lies on the machine. */
function makeTree(
  root: string,
  wantedFiles = WANTED_FILES,
  wantedBytes = WANTED_BYTES,
): { files: number; bytes: number } {
  let files = 0;
  let bytes = 0;
  const origins = ["/usr/share", "/usr/lib", "/usr/include", join(process.cwd(), "node_modules")].filter(
    existsSync,
  );
  const copy = (from: string, to: string) => {
    mkdirSync(to, { recursive: true });
    for (const entry of readdirSync(from, { withFileTypes: true })) {
      if (files >= wantedFiles && bytes >= wantedBytes) return;
      const source = join(from, entry.name);
      const target = join(to, entry.name);
      try {
        if (entry.isDirectory()) copy(source, target);
        else if (entry.isSymbolicLink()) cpSync(source, target, { verbatimSymlinks: true });
        else if (entry.isFile() && statSync(source).size < 64 * 1024 ** 2) {
          cpSync(source, target, { preserveTimestamps: true });
          files += 1;
          bytes += statSync(source).size;
        }
      } catch {
        // a file that this account may not read
      }
    }
  };
  for (let turn = 0; (files < wantedFiles || bytes < wantedBytes) && turn < 20; turn += 1) {
    for (const origin of origins) copy(origin, join(root, `turn-${turn}`, origin.replaceAll("/", "_")));
  }
  return { files, bytes };
}

const seconds = async (work: () => Promise<void> | void): Promise<number> => {
  const started = performance.now();
  await work();
  return (performance.now() - started) / 1000;
};

const shell = (command: string) => {
  const { status, stderr } = spawnSync("bash", ["-o", "pipefail", "-c", command], {
    stdio: ["ignore", "ignore", "pipe"],
  });
  if (status !== 0) throw new Error(`${command}: ${stderr}`);
};

/** A depot with its index in memory; the console holds it in PostgreSQL. */
class BenchDepot {
  readonly keys = deriveStoreKeys(Buffer.alloc(32, 9));
  private readonly index = new Map<string, string>();
  private readonly place: LocalFolder;
  constructor(folder: string) {
    mkdirSync(folder, { recursive: true });
    this.place = new LocalFolder(folder);
  }
  known = async (ids: readonly Uint8Array[]) => ids.map((id) => this.index.has(idKey(id)));
  putPack = async (packId: Buffer, parts: readonly Uint8Array[], { ids }: PackHolds) => {
    const id = packId.toString("hex");
    await this.place.put(packName("s", id), parts);
    for (const chunk of ids) this.index.set(idKey(chunk), id);
  };
  locate = async (ids: readonly Uint8Array[]) => ids.map((id) => this.index.get(idKey(id)) ?? null);
  open = async (packId: string) => {
    const name = packName("s", packId);
    return {
      size: await this.place.size(name),
      read: (offset: number, length: number) => this.place.read(name, offset, length),
    };
  };
}

async function store(depot: BenchDepot, root: string, previous: PreviousTree | null) {
  const writer = new StoreWriter(depot.keys, depot);
  const nodes = new Map<string, Uint8Array>();
  const what = { folders: ["/"], include: [], exclude: [] };
  const result = await storeSnapshot({
    reader: new FilesReader(root),
    writer,
    keys: depot.keys,
    folders: what.folders,
    selector: compileSelection(what),
    previous,
    keepNode: (id, bytes) => bytes && nodes.set(idKey(id), bytes),
    note: () => {},
    progress: { items: 0, bytes: 0 },
    signal: new AbortController().signal,
  });
  const stored = await writer.close();
  const tree: PreviousTree = {
    root: result.root,
    node: (id) => {
      const bytes = nodes.get(idKey(id));
      return bytes ? decodeNode(bytes) : previous!.node(id);
    },
  };
  return { ...result, stored, tree };
}

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

async function benchFiles(): Promise<Figure[]> {
  const folder = mkdtempSync(join(process.env.DEEPKEEP_BENCH_FOLDER ?? tmpdir(), "deep-keep-bench-"));
  const tree = join(folder, "tree");
  const figures: Figure[] = [];
  const note = (name: string, value: number, against: string, againstValue: number, wanted: number) => {
    const ratio = value / againstValue;
    figures.push({ name, value, unit: "s", against, againstValue, ratio, wanted, holds: ratio <= wanted });
  };
  try {
    const { files, bytes } = makeTree(tree);
    say(
      `${files.toLocaleString("en-GB")} files, ${(bytes / 1024 ** 3).toFixed(2)} GiB; ${cpus()[0]?.model.trim()}, ${cpus().length} cores; ${rounds} rounds, the best counts`,
    );
    const pass = "-pass pass:bench -pbkdf2";
    const archive = join(folder, "archive");
    let first = Number.POSITIVE_INFINITY;
    let pipeline = Number.POSITIVE_INFINITY;
    let depot = new BenchDepot(join(folder, "depot-0"));
    let made = null as Awaited<ReturnType<typeof store>> | null;
    for (let round = 0; round < rounds; round += 1) {
      pipeline = Math.min(
        pipeline,
        await seconds(() =>
          shell(
            `tar c -C ${folder} tree 2>/dev/null | zstd -1 -T0 | openssl enc -aes-256-ctr ${pass} > ${archive}`,
          ),
        ),
      );
      rmSync(join(folder, `depot-${round - 1}`), { recursive: true, force: true });
      depot = new BenchDepot(join(folder, `depot-${round}`));
      first = Math.min(
        first,
        await seconds(async () => {
          made = await store(depot, tree, null);
        }),
      );
    }
    note("first run", first, "tar | zstd -1 -T0 | openssl", pipeline, 1);
    const before = made!;
    say(
      `  stored ${(before.stored.storedBytes / 1024 ** 2).toFixed(0)} MiB in ${before.stored.packs} packs; the pipeline's archive has ${(statSync(archive).size / 1024 ** 2).toFixed(0)} MiB`,
    );
    let unchanged = Number.POSITIVE_INFINITY;
    let find = Number.POSITIVE_INFINITY;
    for (let round = 0; round < rounds + 1; round += 1) {
      find = Math.min(find, await seconds(() => shell(`find ${tree} -printf '%s %T@\\n'`)));
      unchanged = Math.min(
        unchanged,
        await seconds(async () => {
          await store(depot, tree, before.tree);
        }),
      );
    }
    note("unchanged run", unchanged, "the first run", first, 0.1);
    note("unchanged run", unchanged, "find -printf '%s %T@'", find, 6);
    const count = changeOneInAHundred(tree);
    let third = null as Awaited<ReturnType<typeof store>> | null;
    const changed = await seconds(async () => {
      third = await store(depot, tree, before.tree);
    });
    note(
      `1 % changed (${count} files, ${((third!.stored.storedBytes ?? 0) / 1024 ** 2).toFixed(0)} MiB added)`,
      changed,
      "the first run",
      first,
      0.1,
    );
    let restore = Number.POSITIVE_INFINITY;
    let unpack = Number.POSITIVE_INFINITY;
    for (let round = 0; round < rounds; round += 1) {
      const out = join(folder, `unpacked-${round}`);
      mkdirSync(out);
      unpack = Math.min(
        unpack,
        await seconds(() =>
          shell(`openssl enc -d -aes-256-ctr ${pass} < ${archive} | zstd -d | tar x -C ${out}`),
        ),
      );
      rmSync(out, { recursive: true });
      const target = join(folder, `restored-${round}`);
      mkdirSync(target);
      restore = Math.min(
        restore,
        await seconds(async () => {
          await restoreFiles([{ root: before.root, momentLabel: "then", path: "/" }], {
            store: new StoreReader(depot.keys, depot, true),
            machineRoot: target,
            folder: null,
            clash: "replace",
            note: () => {},
            progress: { items: 0, bytes: 0 },
            signal: new AbortController().signal,
          });
        }),
      );
      if (!lstatSync(join(target, "turn-0")).isDirectory())
        throw new Error("the restore brought nothing back");
      rmSync(target, { recursive: true });
    }
    note("restore", restore, "openssl -d | zstd -d | tar x", unpack, 1);
    return figures;
  } finally {
    rmSync(folder, { recursive: true, force: true });
  }
}

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
async function benchVersions(): Promise<Figure[]> {
  const folder = mkdtempSync(join(process.env.DEEPKEEP_BENCH_FOLDER ?? tmpdir(), "deep-keep-bench-"));
  const tree = join(folder, "tree");
  try {
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
    const depot = new BenchDepot(join(folder, "depot"));
    let stored = 0;
    let previous: PreviousTree | null = null;
    for (let version = 0; version < VERSIONS; version += 1) {
      if (version > 0) changeTwoInAHundred(tree, version);
      const made = await store(depot, tree, previous);
      stored += made.stored.storedBytes / 1024 ** 2;
      previous = made.tree;
    }
    const ratio = stored / one;
    return [
      {
        name: `${VERSIONS} versions, 2 % changed each`,
        value: stored,
        unit: "MiB",
        against: "one version, tar | zstd -1",
        againstValue: one,
        ratio,
        wanted: 1.3,
        holds: ratio <= 1.3,
      },
    ];
  } finally {
    rmSync(folder, { recursive: true, force: true });
  }
}

const LIMIT_MIB = 400;

/** The most memory that a program of its own takes for a first run, started with the agent's own settings. */
async function benchMemory(): Promise<Figure[]> {
  const folder = mkdtempSync(join(process.env.DEEPKEEP_BENCH_FOLDER ?? tmpdir(), "deep-keep-bench-"));
  const tree = join(folder, "tree");
  try {
    const { files, bytes } = makeTree(tree);
    say(`${files.toLocaleString("en-GB")} files, ${(bytes / 1024 ** 3).toFixed(2)} GiB`);
    const { stdout, status, stderr } = spawnSync(
      process.execPath,
      [...AGENT_FLAGS, process.argv[1]!, "--store-once", tree, join(folder, "depot")],
      { encoding: "utf8", env: { ...process.env, MALLOC_ARENA_MAX: "2" } },
    );
    if (status !== 0) throw new Error(stderr);
    const value = Number(stdout);
    return [
      {
        name: "memory of a first run",
        value,
        unit: "MiB",
        against: "its limit",
        againstValue: LIMIT_MIB,
        ratio: value / LIMIT_MIB,
        wanted: 1,
        holds: value <= LIMIT_MIB,
      },
    ];
  } finally {
    rmSync(folder, { recursive: true, force: true });
  }
}
/** As in bin/agent. */
const AGENT_FLAGS = ["--max-old-space-size=192", "--max-semi-space-size=4"];

const once = process.argv.indexOf("--store-once");
if (once > 0) {
  // no index is held: an agent's lies in the console
  const depot = new BenchDepot(process.argv[once + 2]!);
  const writer = new StoreWriter(depot.keys, {
    known: async (ids) => ids.map(() => false),
    putPack: (packId, parts) => depot.putPack(packId, parts, { ids: [], contentBytes: 0 }),
  });
  await storeSnapshot({
    reader: new FilesReader(process.argv[once + 1]!),
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
  console.log((process.resourceUsage().maxRSS / 1024).toFixed(1));
  process.exit(0);
}

const PARTS: Record<string, () => Promise<Figure[]>> = {
  files: benchFiles,
  versions: benchVersions,
  memory: benchMemory,
};

const wanted = process.argv.slice(2).filter((argument) => !argument.startsWith("--"));
for (const name of wanted.length ? wanted : Object.keys(PARTS)) {
  const part = PARTS[name];
  if (!part) {
    console.error(`There is no part ${name}; there are: ${Object.keys(PARTS).join(", ")}`);
    process.exit(2);
  }
  for (const figure of await part()) {
    if (json) console.log(JSON.stringify(figure));
    else {
      console.log(
        `${figure.name.padEnd(44)} ${figure.value.toFixed(2).padStart(8)} ${figure.unit.padEnd(4)} ${figure.against.padEnd(30)} ${figure.againstValue.toFixed(2).padStart(8)}   ratio ${figure.ratio.toFixed(2).padStart(6)}, wanted ${figure.wanted}  ${figure.holds ? "holds" : "falls short"}`,
      );
    }
  }
}
