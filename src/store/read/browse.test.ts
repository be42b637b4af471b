import fc from "fast-check";
import { describe, expect, it } from "vitest";
import { type Entry, type EntryType, type FolderPage, idKey, type TreeNode } from "../tree/tree";
import { fileBytes, folderEntries, type Walked, walkTree } from "./browse";
import type { ChunkReader } from "./reader";

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
  atHand = () => null;
  soon = () => null;
  length = async (id: Uint8Array) => this.bytes.get(idKey(id))!.length;
  chunk = async (id: Uint8Array) => {
    this.read.push(idKey(id));
    return this.bytes.get(idKey(id))!;
  };
  node = async (_id: Uint8Array): Promise<TreeNode> => {
    throw new Error("no nodes here");
  };
  rawNode = async (): Promise<never> => {
    throw new Error("no nodes here");
  };
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

/** Folder nodes in memory; a large folder is split into pages, and those into pages again. */
class Folders extends Chunks {
  private readonly nodes = new Map<string, TreeNode>();
  constructor(private readonly work = () => {}) {
    super();
  }
  put(node: TreeNode): Buffer {
    const id = Buffer.alloc(32);
    id.writeUInt32BE(this.nodes.size);
    this.nodes.set(idKey(id), node);
    return id;
  }
  override node = async (id: Uint8Array): Promise<TreeNode> => {
    this.work();
    return this.nodes.get(idKey(id))!;
  };
}
const named = (name: string, type: EntryType, node?: Buffer): Entry => ({
  name,
  type,
  mode: 0o755,
  uid: 0,
  gid: 0,
  mtime: 0n,
  node,
});

interface Shape {
  readonly files: number;
  readonly folders: readonly Shape[];
  /** How many entries a page has at most; 0: one node for all. */
  readonly page: number;
}
const shapesOf = (depth: number): fc.Arbitrary<Shape> =>
  fc.record({
    files: fc.nat(5),
    folders: depth === 0 ? fc.constant([]) : fc.array(shapesOf(depth - 1), { maxLength: 3 }),
    page: fc.nat(3),
  });
function build(store: Folders, { files, folders, page }: Shape): Buffer {
  const entries = [
    ...folders.map((one, i) => named(`d${i}`, "folder", build(store, one))),
    ...Array.from({ length: files }, (_, i) => named(`f${i}`, "file")),
  ];
  if (page === 0 || entries.length === 0) return store.put({ kind: "folder", entries });
  let pages: FolderPage[] = [];
  for (let at = 0; at < entries.length; at += page) {
    const part = entries.slice(at, at + page);
    const node = store.put({ kind: "folder", entries: part });
    pages.push({ first: part[0]!.name, node, count: part.length });
  }
  // pages of pages, as a folder of very many entries could have
  if (pages.length > 2) {
    const [first, ...rest] = pages as [FolderPage, ...FolderPage[]];
    const node = store.put({ kind: "pages", pages: rest });
    pages = [first, { first: rest[0]!.first, node, count: rest.reduce((sum, one) => sum + one.count, 0) }];
  }
  return store.put({ kind: "pages", pages });
}
/** The same, plainly written. */
async function walked(store: Folders, node: Uint8Array, path: string): Promise<string[]> {
  const paths: string[] = [];
  for await (const entry of folderEntries(store, node)) {
    const below = `${path === "/" ? "" : path}/${entry.name}`;
    paths.push(below);
    if (entry.node) paths.push(...(await walked(store, entry.node, below)));
  }
  return paths;
}

describe("walking through a tree", () => {
  it("passes everything once, each folder before what is in it, whatever its pages", async () => {
    await fc.assert(
      fc.asyncProperty(shapesOf(3), fc.constantFrom("/", "/srv/archive"), async (shape, path) => {
        const store = new Folders();
        const root = build(store, shape);
        const all: Walked[] = [];
        for await (const one of walkTree(store, root, path)) all.push(one);
        expect(all.map((one) => one.path)).toEqual(await walked(store, root, path));
      }),
    );
  });

  it("lets others have their turn, though nothing of it has to be waited for", async () => {
    const busy = () => {
      const until = performance.now() + 2;
      while (performance.now() < until);
    };
    const store = new Folders(busy);
    const folders = Array.from({ length: 60 }, () => ({ files: 1, folders: [], page: 0 }));
    const root = build(store, { files: 0, folders, page: 0 });
    let turns = 0;
    const timer = setInterval(() => {
      turns += 1;
    }, 1);
    for await (const _ of walkTree(store, root, "/"));
    clearInterval(timer);
    expect(turns).toBeGreaterThan(2);
  });

  it("does not take a list of chunks for a folder", async () => {
    const store = new Folders();
    const root = store.put({ kind: "chunks", ids: new Uint8Array(32) });
    await expect(walkTree(store, root, "/").next()).rejects.toMatchObject({ code: "store.damaged" });
  });
});
