import { randomBytes } from "node:crypto";
import { readFileSync } from "node:fs";
import { join } from "node:path";
import fc from "fast-check";
import { afterAll, describe, expect, it } from "vitest";
import { ALLOCATION, bitmapContext, DIRTY, rangesOf, ZERO } from "@/disks/device";
import { Overlay } from "@/disks/overlay";
import { serveNbd } from "@/disks/server";
import { storedDevice } from "@/disks/stored";
import { fileBytes, findEntry } from "@/store/read/browse";
import { StoredDisk } from "@/store/read/disk";
import { CHUNK_MAX } from "@/store/write/chunker";
import { freshFolder, type Snapped, snap, TestDepot } from "../../../tests/depot";
import { diskSource } from "../../../tests/disk-source";
import { run, whyNoDiskTools } from "../../../tests/disk-tools";
import { MemoryDevice } from "../../../tests/memory-device";
import { chunkBytesFor } from "./disk";

const KIB = 1024;
const MIB = 1024 * KIB;
const GIB = 1024 * MIB;
const TIB = 1024 * GIB;
const missing = whyNoDiskTools();
if (missing) console.warn(`skipped: disks with programs of others; ${missing}`);

const closing: (() => unknown)[] = [];
afterAll(async () => {
  for (const close of closing.reverse()) await close();
});

const entryOf = async (depot: TestDepot, { root }: Snapped) => {
  const entry = await findEntry(depot.reader(), root, "/disk.raw");
  expect(entry).not.toBeNull();
  return entry!;
};
const diskOf = async (depot: TestDepot, snapped: Snapped): Promise<StoredDisk> =>
  StoredDisk.open(depot.reader(), await entryOf(depot, snapped));
async function wholeOf(depot: TestDepot, snapped: Snapped): Promise<Buffer> {
  const parts: Buffer[] = [];
  for await (const part of fileBytes(depot.reader(), await entryOf(depot, snapped)))
    parts.push(Buffer.from(part));
  return Buffer.concat(parts);
}
const changedOf = (device: MemoryDevice) =>
  rangesOf(device, bitmapContext("written"), 0, device.size, (flags) => (flags & DIRTY) > 0);

describe("the size of a disk's chunks", () => {
  it("is a power of two that keeps the list short, and is never larger than a chunk may be", () => {
    expect([0, 1, 64 * GIB].map(chunkBytesFor)).toEqual([256 * KIB, 256 * KIB, 256 * KIB]);
    expect([65 * GIB, 129 * GIB, TIB, 64 * TIB].map(chunkBytesFor)).toEqual([
      512 * KIB,
      MIB,
      4 * MIB,
      4 * MIB,
    ]);
    expect(chunkBytesFor(64 * TIB)).toBeLessThanOrEqual(CHUNK_MAX);
  });
});

describe("storing a disk", () => {
  it("equals the disk after any writes, reading only what changed", async () => {
    const depot = new TestDepot();
    // a last chunk that is not whole
    const device = new MemoryDevice(21 * MIB + 5 * KIB);
    await device.write(0, randomBytes(2 * MIB));
    let last = await snap(depot, "", { folders: ["/"], reader: diskSource(device, null) });
    expect((await wholeOf(depot, last)).equals(device.bytes)).toBe(true);
    const step = fc.record({
      zeros: fc.boolean(),
      offset: fc.nat(20 * MIB),
      length: fc.integer({ min: 1, max: MIB }),
    });
    await fc.assert(
      fc.asyncProperty(fc.array(step, { maxLength: 6 }), async (steps) => {
        device.begin();
        for (const { zeros, offset, length } of steps)
          if (zeros) await device.zero(offset, length);
          else await device.write(offset, randomBytes(length));
        const changed = await changedOf(device);
        const before = device.readBytes;
        last = await snap(depot, "", {
          folders: ["/"],
          previous: last.previous,
          reader: diskSource(device, changed),
        });
        const chunks = new Set(
          changed.flatMap(({ offset, length }) => {
            const first = Math.floor(offset / (256 * KIB));
            return Array.from(
              { length: Math.ceil((offset + length) / (256 * KIB)) - first },
              (_, i) => first + i,
            );
          }),
        );
        expect(device.readBytes - before).toBeLessThanOrEqual(chunks.size * 256 * KIB);
        expect(last.figures.bytesRead).toBe(device.readBytes - before);
        expect((await wholeOf(depot, last)).equals(device.bytes)).toBe(true);
        const disk = await diskOf(depot, last);
        for (let i = 0; i < 20; i += 1) {
          const offset = Math.floor(Math.random() * device.size);
          const length = 1 + Math.floor(Math.random() * Math.min(2 * MIB, device.size - offset - 1));
          expect(
            (await disk.read(offset, length)).equals(device.bytes.subarray(offset, offset + length)),
          ).toBe(true);
        }
        for (const { offset, length } of await rangesOf(
          storedDevice(disk),
          ALLOCATION,
          0,
          disk.size,
          (flags) => (flags & ZERO) > 0,
        ))
          expect(device.bytes.subarray(offset, offset + length).some((byte) => byte !== 0)).toBe(false);
      }),
      { numRuns: 12 },
    );
  });

  it("reads nothing and stores nothing when nothing changed, and no hole ever", async () => {
    const depot = new TestDepot();
    const device = new MemoryDevice(200 * MIB);
    await device.write(100 * MIB, randomBytes(MIB));
    await device.write(150 * MIB, Buffer.alloc(MIB));
    const first = await snap(depot, "", { folders: ["/"], reader: diskSource(device, null) });
    expect(device.readBytes).toBe(2 * MIB);
    // zeros that were written are a hole too
    expect((await entryOf(depot, first)).extents).toEqual([[100 * MIB, MIB]]);
    expect(first.counts).toMatchObject({ files: 1, bytes: 200 * MIB });
    device.readBytes = 0;
    const second = await snap(depot, "", {
      folders: ["/"],
      previous: first.previous,
      reader: diskSource(device, []),
    });
    expect(device.readBytes).toBe(0);
    expect(second.figures).toMatchObject({ bytesRead: 0, filesRead: 0, filesUnchanged: 1, changed: 0 });
    // the tree's node alone, whose times are new
    expect(second.stored.newBytes).toBeLessThan(4096);
    expect((await wholeOf(depot, second)).equals(device.bytes)).toBe(true);
  });

  it("keeps the list of a large disk in pages, and takes it over from there", async () => {
    const depot = new TestDepot();
    const device = new MemoryDevice(300 * MIB);
    for (let at = 0; at < 300 * MIB; at += 256 * KIB) await device.write(at, randomBytes(64));
    const first = await snap(depot, "", { folders: ["/"], reader: diskSource(device, null) });
    expect((await entryOf(depot, first)).chunkPages).toBeDefined();
    device.begin();
    await device.write(299 * MIB, randomBytes(5000));
    device.readBytes = 0;
    const second = await snap(depot, "", {
      folders: ["/"],
      previous: first.previous,
      reader: diskSource(device, await changedOf(device)),
    });
    expect(device.readBytes).toBe(256 * KIB);
    expect((await wholeOf(depot, second)).equals(device.bytes)).toBe(true);
  });

  it("follows a disk that became larger or smaller, whose end was not at a chunk's", async () => {
    const depot = new TestDepot();
    const contents = [5 * MIB + 1000, 9 * MIB, 9 * MIB + 300 * KIB, 3 * MIB + 7, 0, 2 * MIB].map((length) =>
      randomBytes(length),
    );
    let last: Snapped | null = null;
    let before = Buffer.alloc(0);
    for (const content of contents) {
      // what both have is the same
      before.copy(content, 0);
      const device = new MemoryDevice(content.length, true);
      await device.write(0, content);
      last = await snap(depot, "", {
        folders: ["/"],
        previous: last?.previous ?? null,
        reader: diskSource(device, last ? [] : null),
      });
      expect((await wholeOf(depot, last)).equals(content), `${content.length}`).toBe(true);
      before = content;
    }
  });

  it("ends with the error of the disk, and with the reason it was stopped for", async () => {
    const device = new MemoryDevice(40 * MIB);
    await device.write(0, randomBytes(40 * MIB));
    let left = 60;
    const failing = Object.assign(device, {
      read: async (offset: number, length: number) => {
        left -= 1;
        if (left < 0) throw new Error("the host does not answer");
        return device.bytes.subarray(offset, offset + length);
      },
    });
    await expect(
      snap(new TestDepot(), "", { folders: ["/"], reader: diskSource(failing, null) }),
    ).rejects.toThrow("the host does not answer");
  });
});

describe.skipIf(missing)("a disk of a recovery point over NBD, with programs that nobody here wrote", () => {
  it("is compared, converted, and written to through an overlay", async () => {
    const depot = new TestDepot();
    const device = new MemoryDevice(64 * MIB);
    await device.write(3 * MIB, randomBytes(11 * MIB + 512));
    await device.write(60 * MIB, randomBytes(4 * MIB));
    const snapped = await snap(depot, "", { folders: ["/"], reader: diskSource(device, null) });
    const disk = storedDevice(await diskOf(depot, snapped));
    const folder = freshFolder("stored");
    const overlay = await Overlay.over(disk, join(folder, "writes"));
    const server = await serveNbd(
      { host: "127.0.0.1", port: 0 },
      {
        names: () => [],
        open: async (name) => ({ device: name === "scratch" ? overlay : disk, close: () => {} }),
      },
    );
    closing.push(() => server.close());
    const address = (name: string) => `nbd://127.0.0.1:${(server.at as { port: number }).port}/${name}`;
    await run("nbdcopy", address("point"), join(folder, "out.raw"));
    expect(readFileSync(join(folder, "out.raw")).equals(device.bytes)).toBe(true);
    await run("qemu-img", "convert", "-O", "qcow2", address("point"), join(folder, "out.qcow2"));
    expect(await run("qemu-img", "compare", join(folder, "out.qcow2"), address("point"))).toContain(
      "identical",
    );
    await expect(run("qemu-io", "-f", "raw", "-c", "write 0 4k", address("point"))).rejects.toThrow(
      /Permission denied/,
    );
    await run("qemu-io", "-f", "raw", "-c", "write -P 5 3M 100k", address("scratch"));
    expect(await run("qemu-io", "-f", "raw", "-c", "read -P 5 3M 100k", address("scratch"))).toContain(
      "100 KiB",
    );
    expect(await run("qemu-img", "compare", join(folder, "out.qcow2"), address("point"))).toContain(
      "identical",
    );
  });
});
