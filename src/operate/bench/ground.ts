import { spawnSync } from "node:child_process";
import { cpSync, existsSync, mkdirSync, mkdtempSync, readdirSync, rmSync, statSync } from "node:fs";
import { tmpdir } from "node:os";
import { join } from "node:path";
import { compileSelection } from "@/core/selection/selection";
import { readAhead } from "@/kinds/files/listing-ahead";
import { FilesReader } from "@/kinds/files/reader";
import { restoreFiles } from "@/kinds/files/writer";
import { type PreviousTree, storeSource } from "@/sources/store-source";
import { IdNumbers } from "@/store/packs/id-numbers";
import { lastPart, packName, packsOf } from "@/store/packs/layout";
import { openPack, type PackHolds } from "@/store/packs/pack";
import { LocalFolder } from "@/store/places/local-folder";
import { StoreReader } from "@/store/read/reader";
import { deriveStoreKeys } from "@/store/seal/keys";
import { idKey } from "@/store/tree/tree";
import { StoreWriter } from "@/store/write/writer";

/**
 * `bin/bench`: the engine of agent and runner on a Unix tree, to a local depot, beside the pipelines that the
 * architecture names, all in one call.
 */
export interface Figure {
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

export const WANTED_FILES = Number(process.env.DEEPKEEP_BENCH_FILES ?? 100_000);
export const WANTED_BYTES = Number(process.env.DEEPKEEP_BENCH_BYTES ?? 2 * 1024 ** 3);
export const json = process.argv.includes("--json");
export const rounds = Number(process.env.DEEPKEEP_BENCH_ROUNDS ?? 5);
export const say = (line: string) => {
  if (!json) console.log(line);
};

/** Makes a tree of at least 100,000 files from what lies on the machine. */
export function makeTree(
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

export const seconds = async (work: () => Promise<void> | void): Promise<number> => {
  const started = performance.now();
  await work();
  return (performance.now() - started) / 1000;
};

export const shell = (command: string) => {
  const { status, stderr } = spawnSync("bash", ["-o", "pipefail", "-c", command], {
    stdio: ["ignore", "ignore", "pipe"],
  });
  if (status !== 0) throw new Error(`${command}: ${stderr}`);
};

/** Begins when the disk has what was written before. */
export const timed = (work: () => Promise<void> | void): Promise<number> => {
  shell("sync");
  return seconds(work);
};

/** A depot with its index in memory; the console holds it in PostgreSQL. */
export class BenchmarkDepot {
  readonly keys = deriveStoreKeys(Buffer.alloc(32, 9));
  private readonly ids = new IdNumbers();
  /** The pack of each of them. */
  private readonly packs: string[] = [];
  private readonly place: LocalFolder;
  constructor(folder: string) {
    mkdirSync(folder, { recursive: true });
    this.place = new LocalFolder(folder);
  }
  /** Finds out what lies in packs that another program put there. */
  async learn(): Promise<void> {
    for await (const name of this.place.list(packsOf("s"))) {
      const packId = lastPart(name);
      const pack = await openPack(this.keys, Buffer.from(packId, "hex"), await this.open(packId));
      for (const block of pack.blocks) for (const id of block.ids) this.packs[this.ids.add(id)] = packId;
    }
  }
  known = async (ids: readonly Uint8Array[]) => ids.map((id) => this.ids.find(id) >= 0);
  putPack = async (packId: Buffer, parts: readonly Uint8Array[], { ids }: PackHolds) => {
    const id = packId.toString("hex");
    await this.place.put(packName("s", id), parts);
    for (const chunk of ids) this.packs[this.ids.add(chunk)] = id;
  };
  locate = async (ids: readonly Uint8Array[]) => ids.map((id) => this.packs[this.ids.find(id)] ?? null);
  open = async (packId: string) => {
    const name = packName("s", packId);
    return {
      size: await this.place.size(name),
      read: (offset: number, length: number, into?: Buffer) => this.place.read(name, offset, length, into),
    };
  };
}

export async function store(depot: BenchmarkDepot, root: string, previous: PreviousTree | null) {
  const writer = new StoreWriter(depot.keys, depot);
  const nodes = new Map<string, Uint8Array>();
  const what = { folders: ["/"], include: [], exclude: [] };
  const result = await storeSource({
    // as an agent reads
    reader: previous ? readAhead({ root, passOver: [], folders: what.folders, what }) : new FilesReader(root),
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
    bytes: (id) => nodes.get(idKey(id)) ?? previous!.bytes(id),
  };
  return { ...result, stored, tree };
}

const makeFolder = (): string =>
  mkdtempSync(join(process.env.DEEPKEEP_BENCH_FOLDER ?? tmpdir(), "deep-keep-bench-"));
const removeFolder = (folder: string) => rmSync(folder, { recursive: true, force: true });

/** Does something in a folder of its own, which is gone afterwards. */
export async function inFolder<T>(work: (folder: string) => Promise<T>): Promise<T> {
  const folder = makeFolder();
  try {
    return await work(folder);
  } finally {
    removeFolder(folder);
  }
}

const left: string[] = [];

/**
 * The same, but the folder is left until all parts are done. For five minutes after many files were removed, ext4 passes
 * over their inodes one by one whenever a file is made, which takes several times as long as making it.
 */
export async function inLeftFolder<T>(work: (folder: string) => Promise<T>): Promise<T> {
  const folder = makeFolder();
  left.push(folder);
  return work(folder);
}

export function removeLeftFolders(): void {
  for (const folder of left.splice(0)) removeFolder(folder);
}

/** The value below which such a share (0 to 1) of the values lies. */
export const percentile = (times: readonly number[], share: number): number =>
  [...times].sort((a, b) => a - b)[Math.min(times.length - 1, Math.floor(times.length * share))]!;

/** One figure beside what it is measured against; `wanted` is what the ratio should be at most. */
export function figure(
  name: string,
  unit: string,
  value: number,
  against: string,
  againstValue: number,
  wanted: number,
  ratio = value / againstValue,
): Figure {
  return { name, value, unit, against, againstValue, ratio, wanted, holds: ratio <= wanted };
}

/** Restores a whole tree into an empty folder. */
export async function bringBack(
  depot: Pick<BenchmarkDepot, "keys" | "locate" | "open">,
  root: Uint8Array,
  target: string,
): Promise<void> {
  mkdirSync(target);
  await restoreFiles([{ root, momentLabel: "then", path: "/" }], {
    store: new StoreReader(depot.keys, depot, true),
    machineRoot: target,
    folder: null,
    clash: "replace",
    note: () => {},
    progress: { items: 0, bytes: 0 },
    signal: new AbortController().signal,
  });
}
