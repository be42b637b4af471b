import { randomBytes } from "node:crypto";
import { createWriteStream, statSync, writeFileSync } from "node:fs";
import { join } from "node:path";
import { pipeline } from "node:stream/promises";
import { describe, expect, it } from "vitest";
import { findEntry } from "@/store/read/browse";
import { StoredDisk } from "@/store/read/disk";
import { freshFolder, snap, TestDepot } from "../../tests/depot";
import { diskSource } from "../../tests/disk-source";
import { run, whyNoDiskTools } from "../../tests/disk-tools";
import { MemoryDevice } from "../../tests/memory-device";
import { qcow2Of } from "./qcow2";

const MIB = 1024 * 1024;
const missing = whyNoDiskTools();

describe.skipIf(missing)("an image in qcow2, written in order", () => {
  it.each([
    ["empty", 64 * MIB, []],
    ["without anything at all", 0, []],
    ["full", 20 * MIB, [[0, 20 * MIB]]],
    ["of a length that is no multiple of a cluster", 10 * MIB + 512, [[10 * MIB - 5000, 5512]]],
    // one table of the second level covers 512 MiB
    [
      "over several tables",
      1600 * MIB,
      [
        [0, 5000],
        [511 * MIB, 2 * MIB],
        [1100 * MIB, 4096],
        [1599 * MIB, MIB],
      ],
    ],
    ["with a stretch over two tables", 600 * MIB, [[500 * MIB, 30 * MIB]]],
  ] as const)("is what QEMU expects of a disk %s", async (_what, size, places) => {
    const depot = new TestDepot();
    const device = new MemoryDevice(size);
    for (const [offset, length] of places) await device.write(offset, randomBytes(Math.min(length, MIB)));
    // what repeats is stored once
    for (const [offset, length] of places)
      for (let at = MIB; at < length; at += MIB)
        await device.write(offset + at, device.bytes.subarray(offset, offset + Math.min(MIB, length - at)));
    const point = await snap(depot, "", { folders: ["/"], reader: diskSource(device, null) });
    const disk = await StoredDisk.open(
      depot.reader(),
      (await findEntry(depot.reader(), point.root, "/disk.raw"))!,
    );
    const folder = freshFolder("qcow2");
    let passed = 0;
    const { stream, length } = qcow2Of(disk, (bytes) => {
      passed += bytes;
    });
    await pipeline(stream, createWriteStream(join(folder, "disk.qcow2")));
    writeFileSync(join(folder, "disk.raw"), device.bytes);
    expect(statSync(join(folder, "disk.qcow2")).size).toBe(length);
    expect(passed).toBe(disk.storedBytes);
    expect(await run("qemu-img", "check", join(folder, "disk.qcow2"))).toContain("No errors");
    const compared = ["-f", "qcow2", "-F", "raw", join(folder, "disk.qcow2"), join(folder, "disk.raw")];
    expect(await run("qemu-img", "compare", ...compared)).toContain("identical");
  });
});
