import { execFileSync } from "node:child_process";
import { randomBytes } from "node:crypto";
import {
  closeSync,
  existsSync,
  ftruncateSync,
  mkdirSync,
  openSync,
  readFileSync,
  symlinkSync,
  truncateSync,
  writeFileSync,
  writeSync,
} from "node:fs";
import { join } from "node:path";
import type { Volume } from "@/disks/files/file-system";
import { freshFolder } from "./depot";

/** File systems made by the programs of their projects, from Debian's packages. */

export function whyNoVolumes(): string | null {
  const missing = ["/sbin/mke2fs", "/sbin/mkntfs", "/sbin/mkfs.fat", "/usr/bin/mcopy"].filter(
    (path) => !existsSync(path),
  );
  const why = missing.length
    ? `missing: ${missing.join(", ")} (packages e2fsprogs, ntfs-3g, dosfstools, mtools)`
    : null;
  if (why && process.env.CI) throw new Error(`File systems of others must run in CI; ${why}`);
  return why;
}

/** Names that every file system takes. */
const NAMES = [
  "plain.txt",
  "with space.txt",
  "größe.txt",
  "日本.txt",
  "a".repeat(120),
  "UPPER.TXT",
  "lower.lng.ending",
];

/** A folder with files small, large, empty and with holes, a folder of many, and deep ones. */
export function sampleTree(links: boolean): string {
  const root = freshFolder("sample");
  for (const [i, name] of NAMES.entries()) writeFileSync(join(root, name), randomBytes(i * 700));
  mkdirSync(join(root, "many"));
  for (let i = 0; i < 400; i += 1)
    writeFileSync(join(root, "many", `entry number ${i}.dat`), `${i}\n`.repeat(i % 9));
  mkdirSync(join(root, "deep/er/still"), { recursive: true });
  writeFileSync(join(root, "deep/er/still/large.bin"), randomBytes(3_500_000));
  const handle = openSync(join(root, "deep/holes.bin"), "w");
  writeSync(handle, randomBytes(5000), 0, 5000, 900_000);
  writeSync(handle, randomBytes(70_000), 0, 70_000, 1_500_001);
  ftruncateSync(handle, 2_000_000);
  closeSync(handle);
  writeFileSync(join(root, "repeats.txt"), "the quay was calm and the water clear\n".repeat(9000));
  if (links) {
    symlinkSync("plain.txt", join(root, "short-link"));
    symlinkSync(`deep/${"x".repeat(90)}/nowhere`, join(root, "long-link"));
  }
  return root;
}

export function imageOf(path: string): Volume & { readonly bytes: Buffer } {
  const bytes = readFileSync(path);
  return {
    bytes,
    size: bytes.length,
    read: async (offset, length) => bytes.subarray(offset, offset + length),
  };
}

const blank = (mib: number): string => {
  const path = join(freshFolder("volume"), "volume.img");
  writeFileSync(path, "");
  truncateSync(path, mib * 1024 * 1024);
  return path;
};

export function extImage(tree: string, type: "ext2" | "ext3" | "ext4", block: 1024 | 4096): string {
  const path = blank(24);
  execFileSync("/sbin/mke2fs", ["-q", "-F", "-t", type, "-b", `${block}`, "-L", "data", "-d", tree, path], {
    stdio: "ignore",
  });
  return path;
}

export function fatImage(tree: string, bits: 12 | 16 | 32): string {
  const path = blank(bits === 32 ? 70 : bits === 16 ? 24 : 15);
  execFileSync(
    "/sbin/mkfs.fat",
    ["-F", `${bits}`, ...(bits === 12 ? ["-s", "16"] : []), "-n", "DATA", path],
    { stdio: "ignore" },
  );
  execFileSync("sh", ["-c", `cd '${tree}' && mcopy -s -i '${path}' * ::`], {
    stdio: "ignore",
    env: { ...process.env, MTOOLS_SKIP_CHECK: "1", LC_ALL: "C.UTF-8" },
  });
  return path;
}

/** An NTFS file system with the tree, and with a compressed folder; null where it cannot be mounted here. */
export function ntfsImage(tree: string): string | null {
  const path = blank(32);
  execFileSync("/sbin/mkntfs", ["-q", "-F", "-L", "data", path], { stdio: "ignore" });
  const at = freshFolder("mount");
  try {
    execFileSync("ntfs-3g", ["-o", "compression", path, at], { stdio: "ignore" });
  } catch {
    return null;
  }
  try {
    execFileSync("cp", ["-r", "--preserve=timestamps", `${tree}/.`, at]);
    // the attribute of compression is inherited by what is created inside
    execFileSync("python3", [
      "-c",
      `import os; os.mkdir('${at}/pressed'); os.setxattr('${at}/pressed', 'system.ntfs_attrib', b'\\x10\\x08\\x00\\x00')`,
    ]);
    execFileSync("cp", [join(tree, "repeats.txt"), join(at, "pressed/repeats.txt")]);
    execFileSync("cp", [join(tree, "deep/er/still/large.bin"), join(at, "pressed/large.bin")]);
  } finally {
    execFileSync("umount", [at]);
  }
  return path;
}
