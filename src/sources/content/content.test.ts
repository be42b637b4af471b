import { randomBytes } from "node:crypto";
import { appendFileSync, mkdirSync, rmSync, symlinkSync, truncateSync, writeFileSync } from "node:fs";
import { join } from "node:path";
import fc from "fast-check";
import { describe, expect, it } from "vitest";
import { CodedError } from "@/core/codes";
import { FilesReader } from "@/kinds/files/reader";
import { SPREAD_BYTES, spreadOf } from "@/store/cutting/spread";
import { WINDOW_BYTES, WindowMemory, Windows } from "@/store/cutting/windows";
import { Identifier, splitIds } from "@/store/seal/identity";
import { CHUNK_MAX, nextCut } from "@/store/write/chunker";
import { StoreWriter } from "@/store/write/writer";
import { freshFolder, TestDepot } from "../../../tests/depot";
import type { OpenFile } from "../reader";
import type { ContentAnswer, ContentJob } from "./batch";
import { type AskThread, type Content, ContentsBeside } from "./contents";
import { ContentCutter, type ContentFacts } from "./cutter";
import { looksRandom } from "./random";
import { RunReadings } from "./run-readings";

const { keys } = new TestDepot();
const identifier = new Identifier(keys.chunkId);

/** Chunks of content as the chunker in plain words finds them. */
function chunksOf(bytes: Uint8Array): Uint8Array[] {
  const chunks: Uint8Array[] = [];
  for (let at = 0; at < bytes.length; at += chunks.at(-1)!.length)
    chunks.push(bytes.subarray(at, at + nextCut(bytes, at, bytes.length, keys.gear)));
  return chunks;
}
const idsOf = (bytes: Uint8Array): string[] =>
  chunksOf(bytes).map((chunk) => identifier.id(chunk).toString("hex"));

const openOf = (content: Buffer, ranges: [number, number][] | null, lost: number): OpenFile => ({
  size: content.length,
  extents: ranges,
  read: (into, at, length, position) => {
    // the system may give less than was asked for
    const end = Math.min(position + Math.ceil(length * 0.7), content.length - lost);
    return end > position ? content.copy(into, at, position, end) : 0;
  },
  changed: () => false,
  xattrs: () => [],
  close: () => {},
});

describe("cutting the content of files", () => {
  it("finds the chunks that the chunker finds, wherever a window ends", () => {
    const windows = Windows.lend(keys.gear);
    const memory = new WindowMemory(windows.memory.shared);
    const pool = randomBytes(24 * 1024 * 1024);
    pool.fill(0, 3_000_000, 3_000_000 + 2.5 * CHUNK_MAX);
    const file = fc.record({
      from: fc.nat(1000),
      length: fc.oneof(fc.nat(3000), fc.nat(2_000_000), fc.nat(20_000_000)),
      lost: fc.constantFrom(0, 0, 0, 1, 5000),
    });
    fc.assert(
      fc.property(fc.array(file, { minLength: 1, maxLength: 8 }), (files) => {
        let found: string[] = [];
        let next = 0;
        const cutter = new ContentCutter(memory, identifier, (id, window, start, length) => {
          expect(
            identifier.id(memory.bytes(window).subarray(start, start + length)).equals(id),
            "what lies there is what was named",
          ).toBe(true);
          found.push(id.toString("hex"));
        });
        for (const { from, length, lost } of files) {
          found = [];
          const content = pool.subarray(from, from + length);
          cutter.begin(openOf(content, null, lost));
          let facts = cutter.goOn();
          for (; !facts; facts = cutter.goOn()) cutter.moveTo(next++ % 5);
          const there = content.subarray(0, Math.max(0, length - lost));
          expect(facts.short).toBe(there.length < length);
          expect(facts.size).toBe(there.length);
          expect(facts.dense).toBe(looksRandom(spreadOf(there), Math.min(SPREAD_BYTES, there.length)));
          expect(found).toEqual(idsOf(there));
        }
      }),
      { numRuns: 25 },
    );
  });

  it("passes over holes, and cuts each range with data by itself", () => {
    const memory = Windows.lend(keys.gear).memory;
    const content = randomBytes(12_000_000);
    const ranges: [number, number][] = [
      [0, 10_000],
      [1_000_000, 9_000_000],
      [11_000_000, 500],
    ];
    const found: string[] = [];
    const cutter = new ContentCutter(memory, identifier, (id) => found.push(id.toString("hex")));
    cutter.begin(openOf(content, ranges, 0));
    let facts = cutter.goOn();
    for (let next = 0; !facts; facts = cutter.goOn()) cutter.moveTo(next++ % 5);
    expect(facts).toMatchObject({ extents: ranges, size: content.length, short: false });
    expect(found).toEqual(ranges.flatMap(([at, length]) => idsOf(content.subarray(at, at + length))));
  });
});

/** A thread as it is seen from outside: jobs and answers are copies, each comes later. */
function aThread(disturb: (job: ContentJob) => void = () => {}) {
  const readings = new RunReadings();
  const jobs: ContentJob[] = [];
  let line: Promise<unknown> = Promise.resolve();
  const asked: AskThread = {
    ask: (job) => {
      jobs.push(job);
      // the memory stays shared
      const sent = "begin" in job ? job : structuredClone(job);
      const answer = line.then(async () => {
        await new Promise(setImmediate);
        disturb(sent);
        return structuredClone(readings.answer(sent)) as ContentAnswer;
      });
      line = answer.catch(() => {});
      return answer;
    },
  };
  return { asked, jobs };
}

async function readAll(
  folder: string,
  names: readonly [name: string, size: number][],
  thread = aThread(),
  depot = new TestDepot(),
) {
  const writer = new StoreWriter(depot.keys, depot);
  const windows = Windows.lend(depot.keys.gear);
  const reader = new FilesReader(folder);
  let passed = 0;
  const contents = new ContentsBeside(
    {
      reader,
      writer,
      windows,
      key: depot.keys.chunkId,
      passed: (bytes) => {
        passed += bytes;
      },
      signal: new AbortController().signal,
    },
    (path) => reader.place(path),
    thread.asked,
  );
  const told: [string, Content | CodedError][] = [];
  const work = async () => {
    for (const [name, size] of names) {
      if (contents.crowded) await contents.room();
      contents.read(`/${name}`, size, (content) => told.push([name, content]));
    }
    await contents.drained();
  };
  await work().finally(() => contents.end());
  await writer.flush();
  const free = Array.from({ length: 5 }, () => windows.take());
  await writer.close();
  return { told, passed, free, depot };
}

const hexOf = (content: Content | CodedError): string[] =>
  content instanceof CodedError
    ? [content.code]
    : splitIds(content.chunks).map((id) => Buffer.from(id).toString("hex"));

describe("reading files beside the thread that keeps their tree", () => {
  it("tells of each in order, small and larger than all windows together, and gives every window back", async () => {
    const folder = freshFolder("content");
    const files = new Map<string, Buffer>();
    for (let i = 0; i < 1500; i += 1) files.set(`small-${i}`, randomBytes(i % 700));
    files.set("long", Buffer.concat(Array.from({ length: 6 }, () => randomBytes(WINDOW_BYTES))));
    for (let i = 0; i < 40; i += 1) files.set(`middle-${i}`, randomBytes(100_000 + i * 10_000));
    files.set("empty", Buffer.alloc(0));
    for (const [name, content] of files) writeFileSync(join(folder, name), content);
    const { told, passed, free } = await readAll(
      folder,
      [...files].map(([name, { length }]) => [name, length]),
    );
    expect(told.map(([name]) => name)).toEqual([...files.keys()]);
    for (const [name, content] of told) expect(hexOf(content), name).toEqual(idsOf(files.get(name)!));
    expect(passed).toBe([...files.values()].reduce((sum, { length }) => sum + length, 0));
    expect(free).not.toContain(null);
    rmSync(folder, { recursive: true });
  });

  it("gives the thread no more at a time than a batch, however much has gathered, and never lets it wait", async () => {
    const folder = freshFolder("content");
    const names = Array.from({ length: 3000 }, (_, i): [string, number] => [`note-${i}`, 20]);
    for (const [name] of names) writeFileSync(join(folder, name), name.padEnd(20));
    const thread = aThread();
    const { told } = await readAll(folder, names, thread);
    expect(told.map(([name]) => name)).toEqual(names.map(([name]) => name));
    const sizes = thread.jobs.flatMap((job) =>
      "read" in job && job.places ? [job.places.split("\0").length - 1] : [],
    );
    expect(sizes.reduce((sum, size) => sum + size, 0)).toBe(3000);
    expect(Math.max(...sizes)).toBe(128);
    // all but the last few were full
    expect(sizes.filter((size) => size < 128).length).toBeLessThanOrEqual(2);
    rmSync(folder, { recursive: true });
  });

  it("says of a file what hinders it, and goes on with the others", async () => {
    const folder = freshFolder("content");
    writeFileSync(join(folder, "first"), "one");
    mkdirSync(join(folder, "became-a-folder"));
    symlinkSync("first", join(folder, "became-a-link"));
    writeFileSync(join(folder, "last"), "two");
    const names = ["first", "gone", "became-a-folder", "became-a-link", "last"];
    const { told } = await readAll(
      folder,
      names.map((name) => [name, 3]),
    );
    expect(told.map(([name, content]) => [name, ...hexOf(content)])).toEqual([
      ["first", ...idsOf(Buffer.from("one"))],
      ["gone", "file.vanished"],
      ["became-a-folder", "file.vanished"],
      ["became-a-link", "file.unreadable"],
      ["last", ...idsOf(Buffer.from("two"))],
    ]);
    expect((told[2]![1] as CodedError).message).toContain("/became-a-folder is no file any more");
    rmSync(folder, { recursive: true });
  });

  it("says which files were written to meanwhile, or became shorter", async () => {
    const folder = freshFolder("content");
    const long = 3 * WINDOW_BYTES;
    const disturbed = async (name: string, disturb: (path: string) => void): Promise<ContentFacts> => {
      const path = join(folder, name);
      writeFileSync(path, randomBytes(long));
      let reads = 0;
      const thread = aThread((job) => {
        // its first window is full
        if ("read" in job && ++reads === 2) disturb(path);
      });
      const { told } = await readAll(folder, [[name, long]], thread);
      return (told[0]![1] as Content).facts;
    };
    expect(await disturbed("grows", (path) => appendFileSync(path, "more"))).toMatchObject({
      size: long,
      changed: true,
      short: false,
    });
    expect(await disturbed("shrinks", (path) => truncateSync(path, long - 1000))).toMatchObject({
      size: long - 1000,
      changed: true,
      short: true,
    });
    expect(await disturbed("rests", () => {})).toMatchObject({ size: long, changed: false, short: false });
    rmSync(folder, { recursive: true });
  });

  it("ends with what the thread or the depot ends with, and waits for nothing then", async () => {
    const folder = freshFolder("content");
    const names = Array.from({ length: 3000 }, (_, i): [string, number] => [`${i}`, 9000]);
    for (const [name, size] of names) writeFileSync(join(folder, name), randomBytes(size));
    let reads = 0;
    const broken = aThread((job) => {
      if ("read" in job && ++reads === 4) throw new Error("the thread ended");
    });
    await expect(readAll(folder, names, broken)).rejects.toThrow("the thread ended");
    const full = new TestDepot();
    full.known = () => Promise.reject(new CodedError("depot.full", "no room"));
    await expect(readAll(folder, names, aThread(), full)).rejects.toMatchObject({ code: "depot.full" });
    rmSync(folder, { recursive: true });
  });
});
