import { spawn } from "node:child_process";
import { randomBytes } from "node:crypto";
import { closeSync, existsSync, ftruncateSync, openSync, rmSync, writeSync } from "node:fs";
import { join } from "node:path";
import { setTimeout as pause } from "node:timers/promises";
import { NbdClient } from "@/disks/client";
import { ALLOCATION, rangesOf, ZERO } from "@/disks/device";
import { serveNbd } from "@/disks/server";
import { storedDevice } from "@/disks/stored";
import type { ByteRange, Listed, SourceReader } from "@/sources/reader";
import { type PreviousTree, storeSource } from "@/sources/store-source";
import { findEntry } from "@/store/read/browse";
import { StoredDisk } from "@/store/read/disk";
import { StoreReader } from "@/store/read/reader";
import { idKey } from "@/store/tree/tree";
import { StoreWriter } from "@/store/write/writer";
import { sideBySide } from "./beside";
import { BenchmarkDepot, type Figure, figure, inFolder, say, shell } from "./ground";

const MIB = 1024 * 1024;
/** Length of the disk, MiB; half of it holds something. */
const DISK_MIB = Number(process.env.DEEPKEEP_BENCH_DISK_MIB ?? 4096);
const COLD_READS = 1000;
const WARM_READS = 40_000;
/** Warm reads go to so many places again and again. */
const PLACES = 256;
/** From one read to the next: over the whole disk, in no order that reading ahead could know. */
const STEP = 37 * MIB + 4096;

/** Half of it compresses to a third, a quarter of it not at all. */
function makeDisk(path: string): void {
  const fd = openSync(path, "w");
  ftruncateSync(fd, DISK_MIB * MIB);
  for (let i = 0; i < DISK_MIB; i += 1) {
    if ((i >> 5) % 2 === 1) continue;
    const block =
      i % 4 === 3 ? randomBytes(MIB) : Buffer.alloc(MIB, `${i} the tide came in over the slipway\n`);
    if (i % 4 !== 3)
      for (let at = 0; at < MIB; at += 48) block.writeUInt32LE((Math.imul(at, 2654435761) + i) >>> 0, at);
    writeSync(fd, block, 0, MIB, i * MIB);
  }
  closeSync(fd);
}

function diskReader(device: NbdClient, changed: readonly ByteRange[] | null): SourceReader {
  const now = BigInt(Date.now()) * 1_000_000n;
  const listed = (name: string, type: "file" | "folder"): Listed => ({
    name,
    type,
    mode: 0o600,
    uid: 0,
    gid: 0,
    mtime: now,
    ctime: now,
    inode: 1n,
    size: device.size,
    allocated: 0,
    disk: type === "file",
  });
  return {
    look: () => listed("", "folder"),
    list: () => ({ at: now, items: [listed("disk.raw", "file")] }),
    open: () => {
      throw new Error("a disk");
    },
    openDisk: async () => ({
      size: device.size,
      changed,
      allocated: (offset, length) =>
        rangesOf(device, ALLOCATION, offset, offset + length, (flags) => (flags & ZERO) === 0),
      readInto: (into, offset) => device.readInto(into, offset),
      close: () => {},
    }),
    target: () => "",
    xattrs: () => [],
    passesOver: () => false,
  };
}

/** Disks over NBD, from a server and as one, beside the programs of QEMU and libnbd. */
export const benchGuest = (): Promise<Figure[]> =>
  inFolder(async (folder) => {
    const image = join(folder, "disk.raw");
    makeDisk(image);
    const socket = join(folder, "qemu.sock");
    const server = spawn(
      "qemu-nbd",
      ["--persistent", "--shared=16", "-x", "disk", "-k", socket, "-f", "raw", "-r", image],
      {
        stdio: "ignore",
      },
    );
    try {
      while (!existsSync(socket)) await pause(50);
      const theirs = `nbd+unix:///disk?socket=${socket}`;
      const run = async (
        depot: BenchmarkDepot,
        changed: readonly ByteRange[] | null,
        previous: PreviousTree | null,
      ) => {
        const started = performance.now();
        const device = await NbdClient.open({ path: socket }, "disk");
        const writer = new StoreWriter(depot.keys, depot);
        const nodes = new Map<string, Uint8Array>();
        const { root } = await storeSource({
          reader: diskReader(device, changed),
          writer,
          keys: depot.keys,
          folders: ["/"],
          selector: { takesFolder: () => true, takesFile: () => true },
          previous,
          keepNode: (id, bytes) => bytes && nodes.set(idKey(id), bytes),
          note: () => {},
          progress: { items: 0, bytes: 0 },
          signal: new AbortController().signal,
        });
        await writer.close();
        device.close();
        const tree = { root, bytes: (id: Uint8Array) => nodes.get(idKey(id)) ?? previous!.bytes(id) };
        return { seconds: (performance.now() - started) / 1000, tree };
      };
      let number = 0;
      const first = await sideBySide(
        "a disk, first run",
        async () => {
          number += 1;
          const at = join(folder, `depot-${number}`);
          const { seconds } = await run(new BenchmarkDepot(at), null, null);
          rmSync(at, { recursive: true });
          return seconds;
        },
        async () => {
          const target = join(folder, "copy.enc");
          const started = performance.now();
          shell(
            `nbdcopy '${theirs}' - | zstd -1 -q | openssl enc -aes-256-ctr -pbkdf2 -pass pass:bench > '${target}'`,
          );
          rmSync(target);
          return (performance.now() - started) / 1000;
        },
      );
      const depot = new BenchmarkDepot(join(folder, "depot"));
      const whole = await run(depot, null, null);
      const changed = Array.from({ length: Math.floor(DISK_MIB / 100) }, (_, i) => ({
        offset: i * 100 * MIB,
        length: MIB,
      }));
      const written = openSync(image, "r+");
      for (const { offset } of changed) writeSync(written, randomBytes(MIB), 0, MIB, offset);
      closeSync(written);
      const increment = await run(depot, changed, whole.tree);
      say(`  1 % changed: ${increment.seconds.toFixed(2)} s, after ${whole.seconds.toFixed(2)} s for all`);
      const entry = (await findEntry(new StoreReader(depot.keys, depot), whole.tree.root, "/disk.raw"))!;
      let shared: StoredDisk | null = null;
      const opened = () => StoredDisk.open(new StoreReader(depot.keys, depot), entry);
      const ours = await serveNbd(
        { path: join(folder, "ours.sock") },
        {
          names: () => [],
          // a connection has caches of its own, which are cold, unless one disk is there for all
          open: async () => ({ device: storedDevice(shared ?? (await opened())), close: () => {} }),
        },
      );
      const address = `nbd+unix:///disk?socket=${join(folder, "ours.sock")}`;
      const sequential = await sideBySide(
        "sequential read over NBD",
        async () => {
          // the connections of one program share what was read, and the next round finds nothing of it
          shared = await opened();
          return ended("nbdcopy", address, "null:").finally(() => {
            shared = null;
          });
        },
        () => ended("nbdcopy", theirs, "null:"),
      );
      const reads = (at: string, count: number, step: number) =>
        ended(
          "qemu-img",
          "bench",
          "-c",
          `${count}`,
          "-d",
          "1",
          "-s",
          "4096",
          "-S",
          `${step}`,
          "-f",
          "raw",
          at,
        );
      const cold = await sideBySide(
        "4 KiB reads over NBD, cold",
        () => reads(address, COLD_READS, STEP),
        () => reads(theirs, COLD_READS, STEP),
      );
      shared = await opened();
      const step = (DISK_MIB / PLACES) * MIB;
      await reads(address, PLACES, step);
      const warm = await sideBySide(
        "4 KiB reads over NBD, warm",
        () => reads(address, WARM_READS, step),
        () => reads(theirs, WARM_READS, step),
      );
      await ours.close();
      return [
        figure("a disk, first run", "s", first.ours, "nbdcopy | zstd -1 | openssl", first.theirs, 1),
        figure("a disk, 1 % changed", "s", increment.seconds, "its first run", whole.seconds, 0.05),
        figure(
          "sequential read over NBD",
          "s",
          sequential.ours,
          "qemu-nbd on the raw file",
          sequential.theirs,
          1 / 0.7,
        ),
        figure("4 KiB reads over NBD, cold", "s", cold.ours, "qemu-nbd on the raw file", cold.theirs, 10),
        figure("4 KiB reads over NBD, warm", "s", warm.ours, "qemu-nbd on the raw file", warm.theirs, 2),
      ];
    } finally {
      server.kill();
    }
  });

/** Seconds that a program takes. */
function ended(program: string, ...args: string[]): Promise<number> {
  const started = performance.now();
  return new Promise((resolve, reject) => {
    const child = spawn(program, args, { stdio: ["ignore", "ignore", "inherit"] });
    child.once("error", reject);
    child.once("close", (code) =>
      code === 0
        ? resolve((performance.now() - started) / 1000)
        : reject(new Error(`${program} ended with ${code}`)),
    );
  });
}
