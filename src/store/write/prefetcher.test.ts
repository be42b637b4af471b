import { randomBytes } from "node:crypto";
import { mkdirSync, writeFileSync } from "node:fs";
import { join } from "node:path";
import { describe, expect, it, vi } from "vitest";
import { freshFolder, snap, TestDepot } from "../../../tests/depot";
import { walkTree } from "../read/browse";
import { type ChunkReader, WALKED_AHEAD } from "../read/reader";
import { idKey } from "../tree/tree";
import { Prefetcher } from "./prefetcher";

/** A reader that only remembers what it is told; it lets so much be told and then waits. */
class Told {
  readonly ids: string[] = [];
  located = 0;
  questions = 0;
  room = Number.POSITIVE_INFINITY;
  private goOn: (() => void) | null = null;
  constructor(private readonly reader: ChunkReader) {}

  node = (id: Uint8Array) => this.reader.node(id);
  locate = async (ids: readonly Uint8Array[]) => {
    this.questions += 1;
    this.located += ids.length;
  };
  soon = (id: Uint8Array): Promise<void> | null => {
    this.ids.push(idKey(id));
    if (this.ids.length < this.room) return null;
    return new Promise((resolve) => {
      this.goOn = resolve;
    });
  };
  more(room: number): void {
    this.room = room;
    this.goOn?.();
  }
}

/** A tree of folders with files, and the chunks of its files in the order in which a restore reads them. */
async function tree(folders: number, files: number) {
  const root = freshFolder("prefetcher");
  for (let i = 0; i < folders; i += 1) {
    mkdirSync(join(root, `folder ${i}/below`), { recursive: true });
    for (let k = 0; k < files; k += 1)
      writeFileSync(join(root, `folder ${i}`, k % 2 ? "below" : ".", `file ${k}`), `${i} ${k}`);
  }
  writeFileSync(join(root, "large"), randomBytes(9_000_000));
  const depot = new TestDepot();
  const { root: node } = await snap(depot, root);
  const order: string[] = [];
  let entries = 0;
  for await (const { entry } of walkTree(depot.reader(), node, "/")) {
    entries += 1;
    for (let at = 0; at < (entry.chunks?.length ?? 0); at += 32)
      order.push(idKey(entry.chunks!.subarray(at, at + 32)));
  }
  return { node, order, entries, told: new Told(depot.reader()) };
}

const settled = () => new Promise((next) => setTimeout(next, 50));

describe("who walks ahead of a restore", () => {
  it("tells every chunk in the order in which it is read, and asks for many at once where they lie", async () => {
    const { node, order, told } = await tree(12, 20);
    const prefetcher = new Prefetcher(told as unknown as ChunkReader, node);
    await vi.waitFor(() => expect(told.ids.length).toBe(order.length));
    expect(told.ids).toEqual(order);
    expect(told.located).toBe(order.length);
    expect(told.questions).toBeLessThan(order.length / 30);
    prefetcher.stop();
  });

  it("waits where much is under way, and goes no further when it is stopped", async () => {
    const { node, order, told } = await tree(4, 20);
    told.room = 10;
    const prefetcher = new Prefetcher(told as unknown as ChunkReader, node);
    await vi.waitFor(() => expect(told.ids.length).toBe(10));
    await settled();
    expect(told.ids).toEqual(order.slice(0, 10));
    told.more(30);
    await vi.waitFor(() => expect(told.ids.length).toBe(30));
    prefetcher.stop();
    told.more(Number.POSITIVE_INFINITY);
    await settled();
    expect(told.ids.length).toBe(30);
  });

  it("keeps within its distance, and passes over what the reader has left behind", async () => {
    const { node, order, entries, told } = await tree(40, 80);
    expect(entries).toBeGreaterThan(WALKED_AHEAD + 1000);
    const prefetcher = new Prefetcher(told as unknown as ChunkReader, node);
    await settled();
    await vi.waitFor(() => expect(told.ids.length).toBeGreaterThan(WALKED_AHEAD / 2));
    await settled();
    const before = told.ids.length;
    expect(before).toBeLessThanOrEqual(WALKED_AHEAD);
    // the reader passes it by, but for the last few entries
    for (let i = 0; i < entries - 20; i += 1) prefetcher.pass();
    await vi.waitFor(() => expect(told.ids.at(-1)).toBe(order.at(-1)));
    expect(told.ids.length).toBeLessThan(before + 50);
    prefetcher.stop();
  });

  it("leaves what is wrong with the tree to the reader", async () => {
    const { told } = await tree(1, 1);
    const prefetcher = new Prefetcher(told as unknown as ChunkReader, randomBytes(32));
    await settled();
    expect(told.ids).toEqual([]);
    prefetcher.pass();
    prefetcher.stop();
  });
});
