import { existsSync, readFileSync, realpathSync, statfsSync } from "node:fs";
import { cpus, hostname, release, totalmem } from "node:os";
import { dirname, join } from "node:path";
import type { SystemReport } from "@/core/protocol/agent";
import { deepest, mountsOf } from "@/sources/files/standing-still";
import { byteString } from "@/store/tree";

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
  (root === "/" ? hostname() : (fileIn(root, "etc/hostname")?.trim() ?? hostname()))
    .replace(/[^A-Za-z0-9._-]/g, "-")
    .slice(0, 63);

/** What an agent reports of its machine, and of the folder that it works in. */
export function describeSystem(root: string, workFolder: string): SystemReport {
  const release_ = fileIn(root, "etc/os-release") ?? "";
  const pretty = /^PRETTY_NAME="?([^"\n]*)"?$/m.exec(release_)?.[1];
  return {
    hostname: machineName(root),
    system: pretty || "Linux",
    kernel: release(),
    cores: cpus().length || 1,
    memory: totalmem(),
    agent: AGENT_VERSION,
    volumes: volumesOf(root),
    ...workFolderOf(workFolder),
  };
}

function workFolderOf(folder: string): Pick<SystemReport, "workFolder"> {
  try {
    const there = realpathSync(existsSync(folder) ? folder : dirname(folder));
    const mount = deepest(mountsOf(), byteString(there));
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

function volumesOf(root: string): SystemReport["volumes"] {
  const seen = new Set<string>();
  const volumes: SystemReport["volumes"] = [];
  const mounts =
    root === "/"
      ? readFileSync("/proc/self/mounts", "utf8")
          .split("\n")
          .map((line) => line.split(" "))
      : [["", "/", "ext4"]];
  for (const [device, path, kind] of mounts) {
    if (!path || !kind || !DISKS.has(kind) || seen.has(device || path)) continue;
    seen.add(device || path);
    try {
      const disk = statfsSync(join(root, path));
      if (disk.blocks > 0)
        volumes.push({ path, size: disk.blocks * disk.bsize, free: disk.bavail * disk.bsize });
    } catch {
      // a mount that this account may not look at
    }
  }
  return volumes.slice(0, 200);
}
