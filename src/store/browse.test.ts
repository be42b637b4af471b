import fc from "fast-check";
import { describe, expect, it } from "vitest";
import { fileBytes } from "./browse";
import type { ChunkReader } from "./reader";
import { type Entry, idKey } from "./tree";

/** Chunks in memory, and which of them were read. */
class Chunks implements ChunkReader {
  readonly read: string[] = [];
  private readonly bytes = new Map<string, Buffer>();
  add(content: Buffer): Buffer {
    const id = Buffer.alloc(32);
    id.writeUInt32BE(this.bytes.size);
    this.bytes.set(idKey(id), content);
    return id;
  }
  locate = async () => {};
  length = async (id: Uint8Array) => this.bytes.get(idKey(id))!.length;
  chunk = async (id: Uint8Array) => {
    this.read.push(idKey(id));
    return this.bytes.get(idKey(id))!;
  };
  node = async (): Promise<never> => {
    throw new Error("no nodes here");
  };
  rawNode = this.node;
}

/** A file of parts: holes of zeros and data, cut into chunks of any lengths that reach over the holes. */
const files = fc
  .record({
    parts: fc.array(fc.record({ hole: fc.nat(40), data: fc.integer({ min: 1, max: 60 }) }), { maxLength: 5 }),
    tail: fc.nat(30),
    cuts: fc.array(fc.integer({ min: 1, max: 37 }), { minLength: 1, maxLength: 9 }),
  })
  .map(({ parts, tail, cuts }) => {
    const chunks = new Chunks();
    const extents: [number, number][] = [];
    const plain: number[] = [];
    const data: number[] = [];
    for (const { hole, data: length } of parts) {
      for (let i = 0; i < hole; i += 1) plain.push(0);
      extents.push([plain.length, length]);
      for (let i = 0; i < length; i += 1) {
        data.push((data.length * 7 + 1) % 251);
        plain.push(data.at(-1)!);
      }
    }
    for (let i = 0; i < tail; i += 1) plain.push(0);
    const ids: Buffer[] = [];
    for (let at = 0, i = 0; at < data.length; i += 1) {
      const length = cuts[i % cuts.length]!;
      ids.push(chunks.add(Buffer.from(data.slice(at, at + length))));
      at += length;
    }
    const entry: Entry = {
      name: "f",
      type: "file",
      mode: 0o644,
      uid: 0,
      gid: 0,
      mtime: 0n,
      size: plain.length,
      chunks: Buffer.concat(ids),
      extents,
    };
    return { entry, chunks, plain: Buffer.from(plain) };
  });

describe("reading a part of a file", () => {
  it("gives the same bytes as reading all of it and cutting, over holes and chunks", async () => {
    await fc.assert(
      fc.asyncProperty(files, fc.nat(300), fc.nat(300), async ({ entry, chunks, plain }, a, b) => {
        const from = Math.min(a, plain.length);
        const to = Math.min(from + b, plain.length);
        const parts: Buffer[] = [];
        for await (const part of fileBytes(chunks, entry, from, to)) parts.push(part);
        expect(Buffer.concat(parts)).toEqual(plain.subarray(from, to));
      }),
    );
  });
  it("reads no chunk that lies before or behind the part", async () => {
    const chunks = new Chunks();
    const ids = [10, 20, 30, 40].map((length) => chunks.add(Buffer.alloc(length, length)));
    const entry = { name: "f", type: "file", mode: 0, uid: 0, gid: 0, mtime: 0n, size: 100 } as const;
    const parts: Buffer[] = [];
    for await (const part of fileBytes(chunks, { ...entry, chunks: Buffer.concat(ids) }, 31, 59))
      parts.push(part);
    expect(Buffer.concat(parts)).toEqual(Buffer.alloc(28, 30));
    expect(chunks.read).toEqual([idKey(ids[2]!)]);
  });
});
