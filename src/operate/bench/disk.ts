import { createCipheriv, randomBytes } from "node:crypto";
import { closeSync, fsyncSync, mkdirSync, openSync, statSync, writeSync } from "node:fs";
import { cpus } from "node:os";
import { join } from "node:path";
import { Identifier } from "@/store/identity";
import { compressor } from "@/store/press/compressor";
import { BenchDepot, type Figure, figure, inFolder, least, say, seconds, shell, store } from "./ground";

const MIB = 1024 * 1024;
const IMAGE_MIB = 2048;

/** A block of an image: text that compresses to about a third, or what does not at all. */
function blockOf(i: number): Buffer {
  if (i % 4 === 3) return randomBytes(MIB);
  const line = `${i} the tide came in over the slipway and took nothing that was not its own\n`;
  const block = Buffer.alloc(MIB, line);
  for (let at = 0; at < MIB; at += 48) block.writeUInt32LE((Math.imul(at, 2654435761) + i) >>> 0, at);
  return block;
}

/** An image as a disk has it: every other 64 MiB is empty. */
function makeImage(path: string): void {
  const fd = openSync(path, "w");
  for (let i = 0; i < IMAGE_MIB; i += 1) if ((i >> 6) % 2 === 0) writeSync(fd, blockOf(i), 0, MIB, i * MIB);
  // its end is a hole too
  writeSync(fd, Buffer.from([0]), 0, 1, IMAGE_MIB * MIB - 1);
  fsyncSync(fd);
  closeSync(fd);
}

/** Seconds that one core or the disk takes for a MiB of it: what the sum of the steps allows on this machine. */
async function rates(folder: string): Promise<{ core: number; disk: number }> {
  const blocks = Array.from({ length: 64 }, (_, i) => blockOf(i));
  const hash = new Identifier(Buffer.alloc(32, 1));
  let packed: Buffer[] = [];
  const hashing = await least(() => {
    for (const block of blocks) hash.id(block);
  });
  const compressing = await least(async () => {
    packed = [];
    for (const block of blocks) packed.push(Buffer.from((await compressor.compress(block, 1)) ?? block));
  });
  const sealing = await least(() => {
    for (const block of packed) {
      const cipher = createCipheriv("aes-256-gcm", Buffer.alloc(32), Buffer.alloc(12));
      cipher.update(block);
      cipher.final();
    }
  });
  const writing = await least(() => {
    const fd = openSync(join(folder, "written"), "w");
    for (const block of packed) writeSync(fd, block);
    fsyncSync(fd);
    closeSync(fd);
  });
  const each = (time: number) => time / blocks.length;
  const rate = (time: number) => `${(1 / each(time)).toFixed(0)} MiB/s`;
  say(
    `  a core hashes ${rate(hashing)}, compresses ${rate(compressing)}, seals ${rate(sealing)} of it; the disk takes ${rate(writing)}`,
  );
  return { core: each(hashing) + each(compressing) + each(sealing), disk: each(writing) };
}

/** One large image, half of it empty: first pass and one after small changes, against what the machine's own rates allow. */
export const benchDisk = (): Promise<Figure[]> =>
  inFolder(async (folder) => {
    const disk = join(folder, "machine");
    mkdirSync(disk);
    makeImage(join(disk, "image"));
    const held = (statSync(join(disk, "image")).blocks * 512) / MIB;
    say(`an image of ${IMAGE_MIB} MiB that holds ${held.toFixed(0)} MiB`);
    const { core, disk: writing } = await rates(folder);
    const limit = Math.max((core * held) / cpus().length, writing * held);
    let depot = null as unknown as BenchDepot;
    let made = null as unknown as Awaited<ReturnType<typeof store>>;
    const first = await least(async (round) => {
      depot = new BenchDepot(join(folder, `depot-${round}`));
      made = await store(depot, disk, null);
    });
    const fd = openSync(join(disk, "image"), "r+");
    for (let i = 0; i < IMAGE_MIB; i += 128) writeSync(fd, randomBytes(MIB), 0, MIB, i * MIB);
    closeSync(fd);
    shell("sync");
    const again = await seconds(async () => {
      await store(depot, disk, made.tree);
    });
    return [
      figure(
        `an image of ${held.toFixed(0)} MiB, first pass`,
        "s",
        first,
        "what the rates allow",
        limit,
        1.5,
      ),
      figure("the same, 1 % of its blocks changed", "s", again, "the first pass", first, 0.5),
    ];
  });
