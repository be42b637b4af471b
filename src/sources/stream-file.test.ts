import { randomBytes } from "node:crypto";
import { PassThrough, Readable } from "node:stream";
import fc from "fast-check";
import { describe, expect, it } from "vitest";
import { CodedError } from "@/core/codes";
import { fileBytes, findEntry } from "@/store/read/browse";
import { snap, TestDepot } from "../../tests/depot";
import { NOBODY_SAID, nowNanoseconds, type OpenFile, type SourceReader } from "./reader";
import { streamFile } from "./stream-file";

/** A source of one file, `/dump`. */
const readerOf = (open: () => OpenFile): SourceReader => {
  const entry = (name: string, type: "file" | "folder") => ({
    name,
    type,
    mode: 0o600,
    uid: NOBODY_SAID,
    gid: NOBODY_SAID,
    mtime: nowNanoseconds(),
    ctime: nowNanoseconds(),
    inode: 0n,
    size: 0,
    roughSize: true,
    allocated: 0,
  });
  return {
    look: () => entry("", "folder"),
    list: () => ({ at: nowNanoseconds(), items: [entry("dump", "file")] }),
    open,
    target: () => "",
    xattrs: () => [],
    passesOver: () => false,
  };
};
async function stored(depot: TestDepot, root: Uint8Array): Promise<Buffer> {
  const reader = depot.reader();
  const entry = (await findEntry(reader, root, "/dump"))!;
  const parts: Buffer[] = [];
  for await (const part of fileBytes(reader, entry, 0, entry.size ?? 0)) parts.push(part);
  return Buffer.concat(parts);
}
const whole = Promise.resolve();

describe("content that arrives as a stream", () => {
  it("is stored as it came, however it is cut on the way, with its length", async () => {
    const pool = randomBytes(30 * 1024 * 1024);
    const lengths = fc.array(fc.oneof(fc.nat(10), fc.nat(70_000), fc.nat(6_000_000)), { maxLength: 8 });
    await fc.assert(
      fc.asyncProperty(lengths, async (parts) => {
        const depot = new TestDepot();
        let at = 0;
        const pieces = parts.map((length) => {
          at += length;
          return pool.subarray((at - length) % 1_000_000, ((at - length) % 1_000_000) + length);
        });
        const made = await snap(depot, "", {
          reader: readerOf(() => streamFile(Readable.from(pieces, { objectMode: false }), whole)),
        });
        expect(made.notes).toEqual([]);
        const content = Buffer.concat(pieces);
        expect(made.counts.bytes).toBe(content.length);
        expect((await stored(depot, made.root)).equals(content)).toBe(true);
      }),
      { numRuns: 25 },
    );
  });

  it("finds the chunks of the same content again, so that what did not change is not stored twice", async () => {
    const depot = new TestDepot();
    const content = randomBytes(20_000_000);
    const run = (bytes: Buffer) =>
      snap(depot, "", {
        reader: readerOf(() => streamFile(Readable.from([bytes], { objectMode: false }), whole)),
      });
    await run(content);
    const again = await run(Buffer.concat([Buffer.from("a new head"), content]));
    expect(again.stored.newBytes).toBeLessThan(2_000_000);
  });

  it("does not run ahead of the store by more than a little", async () => {
    const source = new PassThrough({ highWaterMark: 64 * 1024 });
    const file = streamFile(source, whole);
    let written = 0;
    // never more than the stream takes
    while (source.write(Buffer.alloc(64 * 1024)) || written < 100) {
      written += 1;
      await new Promise(setImmediate);
      if (written > 1000) break;
    }
    expect(written * 64 * 1024).toBeLessThan(10 * 1024 * 1024);
    file.close();
  });

  it.each([
    ["its program fails at the end", (stream: PassThrough) => stream.end(randomBytes(3_000_000))],
    ["its program fails in the middle", (stream: PassThrough) => void stream.write(randomBytes(3_000_000))],
    ["nothing ever came", () => {}],
  ])("fails the run where %s, and stores no file", async (_when, feed) => {
    const depot = new TestDepot();
    const stream = new PassThrough();
    feed(stream);
    const ended = new Promise<void>((_, reject) =>
      setTimeout(() => reject(new CodedError("source.unreadable", "dump: connection lost")), 50),
    );
    await expect(snap(depot, "", { reader: readerOf(() => streamFile(stream, ended)) })).rejects.toThrow(
      "connection lost",
    );
  });
});
