import { execFileSync } from "node:child_process";
import { lstatSync, mkdirSync, readdirSync, readFileSync, writeFileSync } from "node:fs";
import { join } from "node:path";
import { describe, expect, it } from "vitest";
import { fileBytes, findEntry, folderEntries, walkTree } from "@/store/read/browse";
import { byteString, type Entry, encodeFolder } from "@/store/tree/tree";
import { freshFolder, type Snapped, snap, TestDepot } from "../../../tests/depot";
import { diskSource } from "../../../tests/disk-source";
import { MemoryDevice } from "../../../tests/memory-device";
import { extImage, fatImage, imageOf, sampleTree, whyNoVolumes } from "../../../tests/volumes";
import { FatFileSystem } from "./fat";
import type { Volume } from "./file-system";
import { InsideReader, leadsInside } from "./inside-reader";

const missing = whyNoVolumes();
const MIB = 1024 * 1024;

/** A disk with a table of two partitions: a file system, and nothing. */
async function diskWith(image: string): Promise<MemoryDevice> {
  const { bytes } = imageOf(image);
  const device = new MemoryDevice(bytes.length + 4 * MIB);
  const table = Buffer.alloc(512);
  for (const [i, [offset, size]] of [
    [MIB, bytes.length],
    [MIB + bytes.length, MIB],
  ].entries()) {
    table[450 + 16 * i] = 0x83;
    table.writeUInt32LE(offset! / 512, 454 + 16 * i);
    table.writeUInt32LE(size! / 512, 458 + 16 * i);
  }
  table.writeUInt16LE(0xaa55, 510);
  await device.write(0, table);
  await device.write(MIB, bytes);
  return device;
}
const stored = (depot: TestDepot, device: MemoryDevice, previous: Snapped | null = null) =>
  snap(depot, "", { folders: ["/"], previous: previous?.previous ?? null, reader: diskSource(device, null) });
async function contentOf(reader: InsideReader, entry: Entry): Promise<Buffer> {
  const parts: Buffer[] = [];
  for await (const part of fileBytes(reader, entry)) parts.push(Buffer.from(part));
  return Buffer.concat(parts);
}

describe.skipIf(missing)("the files inside the disks of a recovery point", () => {
  it("are found, walked and read like files that are stored, beside the disk itself", async () => {
    const tree = sampleTree(true);
    const depot = new TestDepot();
    const point = await stored(depot, await diskWith(extImage(tree, "ext4", 4096)));
    const base = depot.reader();
    const reader = new InsideReader(base, point.root);
    const names: string[] = [];
    for await (const { name } of folderEntries(reader, point.root)) names.push(name);
    expect(names).toEqual(["disk", "disk.raw"]);
    expect(await leadsInside(base, point.root, "/disk/partition-1/many")).toBe(true);
    for (const path of ["/", "/disk.raw", "/other/x"])
      expect(await leadsInside(base, point.root, path)).toBe(false);
    const walked = new Map<string, Entry>();
    const top = await findEntry(reader, point.root, "/disk");
    for await (const { path, entry } of walkTree(reader, top!.node!, "/disk")) walked.set(path, entry);
    const compare = async (folder: string, path: string): Promise<number> => {
      let files = 0;
      for (const name of readdirSync(folder)) {
        const entry = walked.get(byteString(`${path}/${name}`));
        const there = lstatSync(join(folder, name));
        expect(entry, name).toBeDefined();
        if (there.isDirectory()) files += await compare(join(folder, name), `${path}/${name}`);
        else if (there.isFile()) {
          files += 1;
          expect((await contentOf(reader, entry!)).equals(readFileSync(join(folder, name))), name).toBe(true);
        }
      }
      return files;
    };
    expect(await compare(tree, "/disk/partition-1")).toBeGreaterThan(400);
    expect([...walked.keys()].some((path) => path.startsWith("/disk/partition-2"))).toBe(false);
    // as the bytes of a node they say the same
    const node = await reader.node(top!.node!);
    expect(await reader.rawNode(top!.node!)).toEqual(
      encodeFolder(node.kind === "folder" ? node.entries : []),
    );
  });

  it("have other ids where the disk changed, and the same where it did not", async () => {
    const tree = sampleTree(false);
    const depot = new TestDepot();
    const device = await diskWith(extImage(tree, "ext4", 1024));
    const first = await stored(depot, device);
    const same = await stored(depot, device, first);
    await device.write(device.size - 2 * MIB, Buffer.from("changed"));
    const other = await stored(depot, device, same);
    const at = async (point: Snapped, path: string) =>
      (await findEntry(new InsideReader(depot.reader(), point.root), point.root, path))!;
    const folder = "/disk/partition-1/many";
    const file = "/disk/partition-1/plain.txt";
    expect((await at(same, folder)).node).toEqual((await at(first, folder)).node);
    expect((await at(other, folder)).node).not.toEqual((await at(first, folder)).node);
    // a file that has its time and length is the same version
    expect((await at(other, file)).chunks).toEqual((await at(first, file)).chunks);
  });

  it("end, where folders of a tampered image lead in circles or are in many places", async () => {
    const tree = freshFolder("circle");
    mkdirSync(join(tree, "a/b/c"), { recursive: true });
    writeFileSync(join(tree, "a/b/c/leaf"), "x");
    const ext = extImage(tree, "ext4", 1024);
    // the same folder again in itself, in its parent, and the root below all of them
    for (const [from, to] of [
      ["/a", "/a/b/loop"],
      ["/a/b", "/a/twin"],
      ["/a/b/c", "/a/b/c/self"],
      ["/", "/a/b/c/root"],
    ])
      execFileSync("debugfs", ["-w", "-R", `ln ${from} ${to}`, ext], { stdio: "ignore" });
    const fat = fatImage(tree, 16);
    const bytes = readFileSync(fat);
    const volume: Volume = {
      size: bytes.length,
      read: async (at, length) => bytes.subarray(at, at + length),
    };
    const system = await FatFileSystem.open(volume);
    const child = async (id: number, name: string) =>
      (await system.list(id)).find((one) => one.name === name)!.id;
    const a = await child(0, "a");
    const b = await child(a, "b");
    const c = await child(b, "c");
    // the innermost folder is the outermost one
    bytes.writeUInt16LE((await system.item(a)).cluster, c + 26);
    writeFileSync(fat, bytes);
    for (const [image, leaves] of [
      [ext, 1],
      [fat, 0],
    ] as const) {
      const depot = new TestDepot();
      const point = await stored(depot, await diskWith(image));
      const reader = new InsideReader(depot.reader(), point.root);
      const top = (await findEntry(reader, point.root, "/disk"))!;
      const paths: string[] = [];
      for await (const { path } of walkTree(reader, top.node!, "/disk")) {
        paths.push(path);
        expect(paths.length, "the walk does not end").toBeLessThan(100);
      }
      expect(paths.filter((path) => path.endsWith("/leaf"))).toHaveLength(leaves);
      expect(paths.some((path) => path.endsWith("/a/b"))).toBe(true);
    }
  });

  it("say why they cannot be read, where the file system is damaged", async () => {
    const depot = new TestDepot();
    const device = await diskWith(extImage(sampleTree(false), "ext4", 1024));
    // the number of inodes of a group
    await device.write(MIB + 1024 + 0x28, Buffer.alloc(4));
    const point = await stored(depot, device);
    const reader = new InsideReader(depot.reader(), point.root);
    await expect(findEntry(reader, point.root, "/disk/partition-1")).rejects.toMatchObject({
      code: "file.unreadable",
      message: expect.stringContaining("impossible table of inodes"),
    });
    // the disk itself is there all the same
    expect((await findEntry(reader, point.root, "/disk.raw"))!.size).toBe(device.size);
  });
});
