import { lstatSync, readdirSync, readFileSync, readlinkSync } from "node:fs";
import { join } from "node:path";
import fc from "fast-check";
import { describe, expect, it } from "vitest";
import { CodedError } from "@/core/codes";
import { extImage, fatImage, imageOf, ntfsImage, sampleTree, whyNoVolumes } from "../../../tests/volumes";
import { layoutOf } from "../partitions";
import type { FileSystem, Volume } from "./file-system";
import { openFileSystem } from "./open";

const missing = whyNoVolumes();
if (missing) console.warn(`skipped: file systems of others; ${missing}`);

async function opened(volume: Volume): Promise<{ system: FileSystem; fileSystem: string; label: string }> {
  const [whole] = (await layoutOf(volume)).partitions;
  expect(whole).toMatchObject({ number: 0, offset: 0, size: volume.size });
  return {
    system: await openFileSystem(volume, whole!),
    fileSystem: whole!.fileSystem!,
    label: whole!.label,
  };
}

/** Every path of a file system with what it is, up to a depth. */
async function walked(system: FileSystem, most = 5000): Promise<Map<string, { id: number; type: string }>> {
  const found = new Map<string, { id: number; type: string }>();
  const walk = async (id: number, base: string, depth: number): Promise<void> => {
    if (depth > 20 || found.size > most) return;
    for (const { name, id: child } of await system.list(id)) {
      const path = `${base}/${Buffer.from(name, "latin1").toString("utf8")}`;
      const { type } = await system.item(child);
      found.set(path, { id: child, type });
      if (type === "folder" && path !== "/lost+found") await walk(child, path, depth + 1);
    }
  };
  await walk(system.root, "", 0);
  return found;
}

async function contentOf(system: FileSystem, id: number): Promise<Buffer> {
  const { size } = await system.item(id);
  const parts: Buffer[] = [];
  for (let at = 0; at < size; ) {
    // parts that end in the middle of blocks
    const part = await system.read(id, at, Math.min(333_333, size - at));
    if (part.length === 0) break;
    parts.push(part);
    at += part.length;
  }
  return Buffer.concat(parts);
}

/** Compares a file system with the folder that it was made from. */
async function same(system: FileSystem, tree: string): Promise<void> {
  const found = await walked(system);
  const compare = async (folder: string, base: string): Promise<void> => {
    for (const name of readdirSync(folder)) {
      const path = `${base}/${name}`;
      const there = lstatSync(join(folder, name));
      const here = found.get(path);
      expect(here, path).toBeDefined();
      if (there.isDirectory()) await compare(join(folder, name), path);
      else if (there.isSymbolicLink())
        expect(await system.target(here!.id)).toBe(readlinkSync(join(folder, name)));
      else {
        expect((await system.item(here!.id)).size, path).toBe(there.size);
        expect((await contentOf(system, here!.id)).equals(readFileSync(join(folder, name))), path).toBe(true);
      }
    }
  };
  await compare(tree, "");
}

describe.skipIf(missing)("files of file systems that nobody here made", () => {
  it.each([
    ["ext2", 1024],
    ["ext3", 1024],
    ["ext4", 1024],
    ["ext4", 4096],
  ] as const)("reads %s with blocks of %i bytes", async (type, block) => {
    const tree = sampleTree(true);
    const { system, fileSystem, label } = await opened(imageOf(extImage(tree, type, block)));
    expect([fileSystem, label]).toEqual([type, "data"]);
    await same(system, tree);
    const plain = (await walked(system)).get("/plain.txt")!;
    const { mtimeNs, mode } = lstatSync(join(tree, "plain.txt"), { bigint: true });
    const item = await system.item(plain.id);
    expect([item.mtime / 1_000_000_000n, item.mode]).toEqual([
      mtimeNs / 1_000_000_000n,
      Number(mode & 0o7777n),
    ]);
  });

  it.each([12, 16, 32] as const)("reads FAT%i with long names", async (bits) => {
    const tree = sampleTree(false);
    const { system, fileSystem, label } = await opened(imageOf(fatImage(tree, bits)));
    expect([fileSystem, label]).toEqual([bits === 32 ? "fat32" : "fat", "DATA"]);
    await same(system, tree);
  });

  it("reads NTFS with large folders, holes and compressed files", async () => {
    const tree = sampleTree(false);
    const image = ntfsImage(tree);
    if (!image) {
      console.warn("skipped: NTFS, which cannot be mounted here to be filled");
      return;
    }
    const { system, fileSystem } = await opened(imageOf(image));
    expect(fileSystem).toBe("ntfs");
    await same(system, tree);
    const found = await walked(system);
    for (const [name, original] of [
      ["repeats.txt", "repeats.txt"],
      ["large.bin", "deep/er/still/large.bin"],
    ] as const)
      expect(
        (await contentOf(system, found.get(`/pressed/${name}`)!.id)).equals(
          readFileSync(join(tree, original)),
        ),
        name,
      ).toBe(true);
    expect([...found.keys()].some((path) => path.startsWith("/$"))).toBe(false);
  });

  it("ends with a reason, and ends, whatever is damaged", async () => {
    const tree = sampleTree(true);
    const plain = sampleTree(false);
    const ntfs = ntfsImage(plain);
    const images = [
      extImage(tree, "ext4", 1024),
      extImage(tree, "ext2", 1024),
      fatImage(plain, 16),
      ...(ntfs ? [ntfs] : []),
    ];
    for (const path of images) {
      const { bytes } = imageOf(path);
      const [whole] = (
        await layoutOf({ size: bytes.length, read: async (at, length) => bytes.subarray(at, at + length) })
      ).partitions;
      // where something is: damage to what is empty shows nothing
      const used: number[] = [];
      for (let at = 0; at < bytes.length; at += 512)
        if (bytes.subarray(at, at + 512).some((one) => one !== 0)) used.push(at);
      await fc.assert(
        fc.asyncProperty(
          fc.array(fc.record({ where: fc.nat(used.length - 1), at: fc.nat(511), value: fc.nat(255) }), {
            minLength: 1,
            maxLength: 40,
          }),
          fc.boolean(),
          async (damages, early) => {
            const hurt = Buffer.from(bytes);
            // tables and folders lie at the beginning
            for (const { where, at, value } of damages)
              hurt[used[early ? where % Math.min(used.length, 200) : where]! + at] = value;
            let read = 0;
            const volume: Volume = {
              size: hurt.length,
              read: async (at, length) => {
                read += length;
                expect(length, "a read that no disk would stand").toBeLessThan(70 * 1024 * 1024);
                return hurt.subarray(at, at + length);
              },
            };
            try {
              const system = await openFileSystem(volume, whole!);
              for (const { id, type } of (await walked(system, 300)).values())
                if (type === "file") await system.read(id, 0, 100_000);
            } catch (error) {
              expect(error).toBeInstanceOf(CodedError);
              expect((error as CodedError).code).toBe("file.unreadable");
            }
            expect(read).toBeLessThan(2 ** 31);
          },
        ),
        { numRuns: 25 },
      );
    }
  }, 120_000);
});
