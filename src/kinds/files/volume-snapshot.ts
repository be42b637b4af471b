import { execFile } from "node:child_process";
import { lstatSync, mkdirSync, readFileSync } from "node:fs";
import { promisify } from "node:util";
import { systemPath } from "@/sources/machine/paths";
import { type ByteString, byteString, showBytes } from "@/store/tree/tree";

const run = promisify(execFile);

/**
 * A snapshot of the volumes that are read, so that a slow copy does not mix two moments. What can make one is btrfs; other
 * file systems are read as they are, and that is told.
 */
export interface VolumeSnapshot {
  /** Where to read what lies at a path of the system. */
  readonly at: (path: ByteString) => ByteString;
  /** Volumes that stand still. */
  readonly still: readonly string[];
  /** Volumes that are read as they are, and why. */
  readonly moving: readonly { readonly volume: string; readonly why: string }[];
  /** Takes the snapshots away. */
  release(): Promise<void>;
}

/** Remembers snapshots, so that those of a run that was killed are taken away later. */
export interface VolumeSnapshots {
  read(): readonly string[];
  write(paths: readonly string[]): void;
}

/** The folder at the top of a volume that holds snapshots meanwhile; what is in it is never kept. */
export const SNAPSHOTS_FOLDER = ".deep-keep-snapshots";
/** File systems that hold nothing to keep. */
export const PSEUDO_SYSTEMS = new Set(
  "autofs bpf binfmt_misc cgroup cgroup2 configfs debugfs devpts devtmpfs efivarfs fusectl hugetlbfs mqueue nsfs proc pstore rpc_pipefs securityfs sysfs tracefs".split(
    " ",
  ),
);
/** The inode of the top folder of every btrfs subvolume. */
export const SUBVOLUME_INODE = 256n;

export interface Mount {
  readonly path: ByteString;
  readonly system: string;
  /** What lies there, as the system calls it: a disk, a share. */
  readonly device: string;
}
/** What is mounted on this machine; the last one on a path is what one sees there. */
export function mountsOf(text = readFileSync("/proc/self/mounts", "latin1")): Mount[] {
  const mounts = new Map<ByteString, Mount>();
  for (const line of text.split("\n")) {
    const [device, written, system] = line.split(" ");
    if (!device || !written || !system) continue;
    const path = written.replace(/\\([0-7]{3})/g, (_, digits: string) =>
      String.fromCharCode(Number.parseInt(digits, 8)),
    );
    mounts.set(path, { path, system, device });
  }
  return [...mounts.values()];
}

export const isWithin = (path: ByteString, folder: ByteString): boolean =>
  folder === "/" || path === folder || path.startsWith(`${folder}/`);
/** Of places in a tree the one that a path lies in. */
export const deepest = <T extends { readonly path: ByteString }>(
  places: readonly T[],
  path: ByteString,
): T | undefined =>
  places
    .filter((place) => isWithin(path, place.path))
    .reduce<T | undefined>(
      (best, one) => (best && best.path.length > one.path.length ? best : one),
      undefined,
    );

/** Of places in a tree those that folders lie in, and those that lie in folders. */
export function touchedBy<T extends { readonly path: ByteString }>(
  places: readonly T[],
  folders: readonly ByteString[],
): T[] {
  const touched = new Set<T>();
  for (const folder of folders) {
    const own = deepest(places, folder);
    if (own) touched.add(own);
    for (const place of places) if (isWithin(place.path, folder)) touched.add(place);
  }
  return [...touched];
}

/** The subvolumes that one sees at a mounted one and below it. */
async function subvolumesAt(mount: ByteString): Promise<{ path: ByteString }[]> {
  const btrfs = async (...args: string[]) =>
    (await run("btrfs", [...args, Buffer.from(mount, "latin1").toString()], { encoding: "latin1" })).stdout;
  const [first] = (await btrfs("subvolume", "show")).split("\n", 1);
  const own = first === "/" || first === "<FS_TREE>" ? "" : `${first}/`;
  const base = mount === "/" ? "" : mount;
  const below = (await btrfs("subvolume", "list"))
    .split("\n")
    .flatMap((line) => /^ID \d+ gen \d+ top level \d+ path (.+)$/.exec(line)?.[1] ?? [])
    .filter((path) => path.startsWith(own))
    .map((path) => `${base}/${path.slice(own.length)}`)
    .filter((path) => !path.split("/").includes(SNAPSHOTS_FOLDER))
    // one that something else is mounted over, or that lies outside of what is mounted here, is not seen
    .filter(
      (path) => lstatSync(systemPath(path), { bigint: true, throwIfNoEntry: false })?.ino === SUBVOLUME_INODE,
    );
  return [{ path: mount }, ...below.map((path) => ({ path }))];
}

const messageOf = (error: unknown): string => {
  const { stderr, code, message } = error as { stderr?: string; code?: string; message: string };
  return code === "ENOENT" ? "the program btrfs is not installed" : (stderr?.trim() || message).slice(0, 300);
};

/**
 * Makes snapshots of what folders lie on. Folders are paths of the system; `mark` names the snapshots. What cannot stand
 * still is told in `moving`; nothing is thrown for it.
 */
export async function takeVolumeSnapshot(
  folders: readonly string[],
  mark: string,
  ledger: VolumeSnapshots,
): Promise<VolumeSnapshot> {
  await releaseLeft(ledger);
  const chosen = folders.map(byteString);
  const mounts = mountsOf().filter((mount) => !PSEUDO_SYSTEMS.has(mount.system));
  const moving: { volume: string; why: string }[] = [];
  const still: string[] = [];
  const made: ByteString[] = [];
  const ways: [from: ByteString, to: ByteString][] = mounts.map(({ path }) => [path, path]);
  for (const mount of touchedBy(mounts, chosen)) {
    const volume = showBytes(mount.path);
    const why = cannot(mount);
    if (why) {
      moving.push({ volume, why });
      continue;
    }
    try {
      for (const { path } of touchedBy(await subvolumesAt(mount.path), chosen)) {
        // another mount in it is looked at by itself
        if (deepest(mounts, path)?.path !== mount.path) continue;
        const base = mount.path === "/" ? "" : mount.path;
        mkdirSync(systemPath(`${base}/${SNAPSHOTS_FOLDER}`), { recursive: true, mode: 0o700 });
        const to = `${base}/${SNAPSHOTS_FOLDER}/${mark}-${made.length + 1}`;
        made.push(to);
        ledger.write(made.map(text));
        await run("btrfs", ["subvolume", "snapshot", "-r", text(path), text(to)]);
        ways.push([path, to]);
        still.push(showBytes(path));
      }
    } catch (error) {
      moving.push({ volume, why: messageOf(error) });
    }
  }
  // the longest way that fits is taken; of two for one place the snapshot, which came later
  ways.reverse().sort((a, b) => b[0].length - a[0].length);
  const at = (path: ByteString): ByteString => {
    for (const [from, to] of ways)
      if (isWithin(path, from)) {
        if (from === to) return path;
        const rest = from === "/" ? path : path.slice(from.length);
        return rest === "" || rest === "/" ? to : to + rest;
      }
    return path;
  };
  return { at, still, moving, release: () => releaseLeft(ledger) };
}

const text = (path: ByteString): string => Buffer.from(path, "latin1").toString();

function cannot({ path, system }: Mount): string | null {
  if (system !== "btrfs") return `${system} makes no snapshots`;
  if (process.getuid?.() !== 0) return "the agent does not run as root";
  return lstatSync(systemPath(path), { bigint: true }).ino === SUBVOLUME_INODE
    ? null
    : "a part of a subvolume is mounted there, not the whole";
}

/** Takes away the snapshots that a ledger knows. Those that cannot be taken away stay in it. */
export async function releaseLeft(ledger: VolumeSnapshots): Promise<void> {
  const left: string[] = [];
  for (const path of ledger.read()) {
    if (!lstatSync(path, { throwIfNoEntry: false })) continue;
    try {
      await run("btrfs", ["subvolume", "delete", path]);
    } catch {
      left.push(path);
    }
  }
  ledger.write(left);
}
