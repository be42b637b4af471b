import { randomBytes } from "node:crypto";
import { closeSync, fsyncSync, mkdirSync, openSync, statSync, writeSync } from "node:fs";
import { cpus } from "node:os";
import { join } from "node:path";
import { setTimeout as pause } from "node:timers/promises";
import { PackMemory } from "@/store/packs/pack-memory";
import { makeScratch, pressBlock } from "@/store/press/block";
import { compressorOf } from "@/store/press/compressor";
import { Identifier } from "@/store/seal/identity";
import { HEADER_BYTES } from "@/store/seal/sealing";
import { medianOf, sideBySide } from "./beside";
import { BenchmarkDepot, type Figure, figure, inFolder, rounds, say, seconds, store, timed } from "./ground";
import { inProgram } from "./program";

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

/** Hashes, compresses and seals blocks one after another on one core, as a thread of the press does. */
function makePacker(): (block: Buffer) => Promise<Uint8Array> {
  const hash = new Identifier(Buffer.alloc(32, 1));
  const compressor = compressorOf(false);
  const scratch = makeScratch();
  const memory = new PackMemory();
  const [key, header] = [Buffer.alloc(32), Buffer.alloc(HEADER_BYTES)];
  return async (block) => {
    hash.id(block);
    memory.clear();
    const job = { parts: [block], level: 1, key, header, place: 0, memory };
    const { sealedLength } = await pressBlock(job, compressor, scratch);
    return memory.bytes.subarray(0, sealedLength);
  };
}

const CORE_SECONDS = 2;
/** More than a processor's caches hold: an image comes from memory too. */
const PACKED_MIB = 128;

/** How long programs have until they begin to pack together. */
const PREPARING_MS = 3000;

/**
 * The program of its own: packs on one core for some seconds; prints how many MiB a second.
 *
 * @param begins milliseconds since 1970: when the others begin too
 */
export async function packOnce(begins: string): Promise<void> {
  const blocks = Array.from({ length: PACKED_MIB }, (_, i) => blockOf(i));
  const pack = makePacker();
  for (const block of blocks.slice(0, 8)) await pack(block);
  const left = Number(begins) - Date.now();
  if (left < 0) throw new Error("the others have begun already");
  await pause(left);
  let done = 0;
  const took = await seconds(async () => {
    for (const end = performance.now() + CORE_SECONDS * 1000; performance.now() < end; done += 1)
      await pack(blocks[done % PACKED_MIB]!);
  });
  console.log(done / took);
}

/**
 * Seconds that so many MiB take at least: by what all cores together hash, compress and seal, all at once, since two cores
 * that are threads of one do no double work, or by what the disk takes of it, whichever is slower.
 */
async function allowed(folder: string, mib: number): Promise<number> {
  const begins = String(Date.now() + PREPARING_MS);
  const each = await Promise.all(cpus().map(async () => Number((await inProgram("pack-once", begins))[0])));
  const cores = each.reduce((sum, one) => sum + one, 0);
  const pack = makePacker();
  const sealed: Buffer[] = [];
  for (let i = 0; i < 64; i += 1) sealed.push(Buffer.from(await pack(blockOf(i))));
  const disk =
    sealed.length /
    (await timed(() => {
      const fd = openSync(join(folder, "written"), "w");
      for (const block of sealed) writeSync(fd, block);
      fsyncSync(fd);
      closeSync(fd);
    }));
  say(
    `  ${each.length} cores at once hash, compress and seal ${cores.toFixed(0)} MiB/s; the disk takes ${disk.toFixed(0)} MiB/s of it`,
  );
  return mib / Math.min(cores, disk);
}

/** One large image, half of it empty: first pass and one after small changes, against what the machine's own rates allow. */
export const benchDisk = (): Promise<Figure[]> =>
  inFolder(async (folder) => {
    const disk = join(folder, "machine");
    mkdirSync(disk);
    makeImage(join(disk, "image"));
    const held = (statSync(join(disk, "image")).blocks * 512) / MIB;
    say(`an image of ${IMAGE_MIB} MiB that holds ${held.toFixed(0)} MiB`);
    let depot = null as unknown as BenchmarkDepot;
    let made = null as unknown as Awaited<ReturnType<typeof store>>;
    const first = await sideBySide(
      "first pass",
      (round) => {
        depot = new BenchmarkDepot(join(folder, `depot-${round}`));
        return timed(async () => {
          made = await store(depot, disk, null);
        });
      },
      () => allowed(folder, held),
    );
    const again: number[] = [];
    for (let round = 0; round < rounds; round += 1) {
      const fd = openSync(join(disk, "image"), "r+");
      for (let i = round; i < IMAGE_MIB; i += 128) writeSync(fd, randomBytes(MIB), 0, MIB, i * MIB);
      closeSync(fd);
      again.push(
        await timed(async () => {
          made = await store(depot, disk, made.tree);
        }),
      );
    }
    return [
      figure(
        `an image of ${held.toFixed(0)} MiB, first pass`,
        "s",
        first.ours,
        "what the rates allow",
        first.theirs,
        1.5,
        first.ratio,
      ),
      figure("the same, 1 % of its blocks changed", "s", medianOf(again), "the first pass", first.ours, 0.5),
    ];
  });
