import { createHash } from "node:crypto";
import { lstatSync, readdirSync, readFileSync, readlinkSync } from "node:fs";
import { readXattrs } from "@/sources/machine/libc";

/**
 * A tree of files as lines of text, everything that a restore must bring back: names in their bytes, kinds, modes,
 * owners, times to the nanosecond, extended attributes, links, content. Two trees are the same when their lines are.
 */
export function describeTree(root: string): string[] {
  const lines: string[] = [];
  const firstNames = new Map<bigint, string>();
  const visit = (path: Buffer, shown: string) => {
    for (const name of readdirSync(path, { encoding: "latin1" }).sort()) {
      const child = Buffer.concat([path, Buffer.from(`/${name}`, "latin1")]);
      const stats = lstatSync(child, { bigint: true });
      if (stats.isSocket() || stats.isFIFO()) continue;
      const label = `${shown}/${JSON.stringify(name)}`;
      let content = "";
      if (stats.isSymbolicLink()) content = `-> ${readlinkSync(child, { encoding: "latin1" })}`;
      else if (stats.isFile()) {
        content = `${stats.size} ${createHash("sha1").update(readFileSync(child)).digest("hex")}`;
      }
      if (!stats.isDirectory() && stats.nlink > 1n) {
        content += ` same as ${firstNames.get(stats.ino) ?? label}`;
        if (!firstNames.has(stats.ino)) firstNames.set(stats.ino, label);
      }
      const xattrs = readXattrs(child).map(([key, value]) => `${key}=${value.toString("hex")}`);
      lines.push(
        `${label} ${Number(stats.mode).toString(8)} ${stats.uid}:${stats.gid} ${stats.mtimeNs} ${content} ${xattrs.join(" ")}`.trimEnd(),
      );
      if (stats.isDirectory()) visit(child, label);
    }
  };
  visit(Buffer.from(root), "");
  return lines;
}
