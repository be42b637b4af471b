import { existsSync, readFileSync, realpathSync, statfsSync } from "node:fs";
import { cpus, hostname, release, totalmem } from "node:os";
import { dirname, join } from "node:path";
import type { SystemReport } from "@/core/protocol/agent";
import { deepest, type Mount, mountsOf } from "@/kinds/files/volume-snapshot";
import { systemPath } from "@/sources/machine/paths";
import { type ByteString, byteString } from "@/store/tree/tree";

export const AGENT_VERSION = "0.1.0";

const DISKS = new Set([
  "ext2",
  "ext3",
  "ext4",
  "xfs",
  "btrfs",
  "zfs",
  "f2fs",
  "vfat",
  "exfat",
  "ntfs",
  "ntfs3",
  "nfs",
  "nfs4",
  "cifs",
  "overlay",
  "bcachefs",
]);

function fileIn(root: string, path: string): string | null {
  try {
    return readFileSync(join(root, path), "utf8");
  } catch {
    return null;
  }
}

/** The machine's own name, from its disk where that is not the one the agent runs on. */
export const machineName = (root: string): string =>
  (root === "/" ? hostname() : fileIn(root, "etc/hostname")?.trim() || hostname())
    .replace(/[^A-Za-z0-9._-]/g, "-")
    .slice(0, 63);

/** What an agent reports of its machine, and of the folder that it works in. */
export function describeSystem(root: string, workFolder: string, mounts = mountsOf()): SystemReport {
  const release_ = fileIn(root, "etc/os-release") ?? "";
  const pretty = /^PRETTY_NAME="?([^"\n]*)"?$/m.exec(release_)?.[1];
  return {
    hostname: machineName(root),
    system: pretty || "Linux",
    kernel: release(),
    cores: cpus().length || 1,
    memory: totalmem(),
    agent: AGENT_VERSION,
    volumes: root === "/" ? volumesOf(mounts) : volumeAt(byteString(root), "/"),
    ...workFolderOf(workFolder, mounts),
  };
}

function workFolderOf(folder: string, mounts: readonly Mount[]): Pick<SystemReport, "workFolder"> {
  try {
    const there = realpathSync(existsSync(folder) ? folder : dirname(folder));
    const mount = deepest(mounts, byteString(there));
    if (!mount) return {};
    const disk = statfsSync(there);
    return {
      workFolder: {
        fileSystem: mount.system,
        onSystemVolume: mount.path === "/",
        free: disk.bavail * disk.bsize,
      },
    };
  } catch {
    // a folder that is not there yet
    return {};
  }
}

type Volumes = SystemReport["volumes"];
const MOST_VOLUMES = 200;

/** What is mounted somewhere, by what it is called; none where this account may not look, or it holds nothing. */
function volumeAt(place: ByteString, path: string): Volumes {
  try {
    const { blocks, bsize, bavail } = statfsSync(systemPath(place));
    return blocks > 0 ? [{ path, size: blocks * bsize, free: bavail * bsize }] : [];
  } catch {
    return [];
  }
}

/** Disks and shares that files lie on, each once. */
function volumesOf(mounts: readonly Mount[]): Volumes {
  const disks = new Map<string, ByteString>();
  for (const { path, system, device } of mounts)
    if (DISKS.has(system) && !disks.has(device)) disks.set(device, path);
  return [...disks.values()]
    .flatMap((path) => volumeAt(path, Buffer.from(path, "latin1").toString()))
    .slice(0, MOST_VOLUMES);
}
