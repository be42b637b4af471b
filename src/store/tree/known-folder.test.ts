import { createHash } from "node:crypto";
import { Encoder } from "cbor-x";
import fc from "fast-check";
import { describe, expect, it } from "vitest";
import { FolderNodes } from "./folder-nodes";
import { KnownFolder } from "./known-folder";
import { decodeNode, type Entry, encodeEntry, encodeFolder, encodePages, idKey, type TreeNode } from "./tree";

/** Nodes by their ids, as a store has them. */
class Nodes {
  private readonly all = new Map<string, Buffer>();
  added = 0;
  readonly add = (bytes: Buffer): Buffer => {
    const id = createHash("sha256").update(bytes).digest();
    this.all.set(idKey(id), Buffer.from(bytes));
    this.added += 1;
    return id;
  };
  readonly bytes = (id: Uint8Array): Buffer => this.all.get(idKey(id))!;
  node = (id: Uint8Array): TreeNode => decodeNode(this.bytes(id));
}

const file = (name: string, more: Partial<Entry> = {}): Entry => ({
  name,
  type: "file",
  mode: 0o644,
  uid: 1000,
  gid: 1000,
  mtime: 1_700_000_000_123_456_789n,
  ctime: 1_700_000_000_123_456_789n,
  inode: 4711n,
  size: 12,
  chunks: Buffer.alloc(32, name.length),
  ...more,
});

function store(nodes: Nodes, entries: readonly Entry[]): Uint8Array {
  const folder = new FolderNodes(nodes.add);
  for (const entry of entries) folder.add(entry.name, encodeEntry(entry));
  return folder.end();
}

/** FNV-1a of a name, as docs/store-format.md has it. */
const hashOf = (name: string) =>
  [...Buffer.from(name, "latin1")].reduce((hash, byte) => Math.imul(hash ^ byte, 0x01000193), 0x811c9dc5) >>>
  0;

/** The same folder put into nodes by what docs/store-format.md says, all at once. */
function storeAsDocumented(nodes: Nodes, entries: readonly Entry[]): Uint8Array {
  if (entries.length <= 2048) return nodes.add(encodeFolder(entries));
  const pages: Entry[][] = [[]];
  for (const entry of entries) {
    const page = pages.at(-1)!;
    page.push(entry);
    if (page.length >= 4096 || (page.length >= 256 && hashOf(entry.name) % 1024 === 0)) pages.push([]);
  }
  if (pages.at(-1)!.length === 0) pages.pop();
  if (pages.length === 1) return nodes.add(encodeFolder(entries));
  return nodes.add(
    encodePages(
      pages.map((page) => ({
        first: page[0]!.name,
        node: nodes.add(encodeFolder(page)),
        count: page.length,
      })),
    ),
  );
}

const namesFrom = (seed: number, count: number): string[] =>
  [
    ...new Set(Array.from({ length: count }, (_, i) => `${hashOf(`${seed} ${i}`).toString(36)} of a kind`)),
  ].sort();

describe("the nodes of a folder", () => {
  it("are those of the documented format, for any number of entries, though no more than a page is held", () => {
    const counts = fc.oneof(
      { weight: 3, arbitrary: fc.nat(300) },
      { weight: 2, arbitrary: fc.integer({ min: 2040, max: 2060 }) },
      { weight: 2, arbitrary: fc.integer({ min: 3000, max: 14_000 }) },
    );
    fc.assert(
      fc.property(fc.nat(), counts, (seed, count) => {
        const entries = namesFrom(seed, count).map((name) => file(name));
        const [one, other] = [new Nodes(), new Nodes()];
        const root = store(one, entries);
        expect(root).toEqual(storeAsDocumented(other, entries));
        expect(one.added).toBe(other.added);
        const top = one.node(root);
        const held = top.kind === "pages" ? top.pages.map(({ node }) => one.node(node)) : [top as TreeNode];
        expect(held.flatMap((node) => (node.kind === "folder" ? node.entries : [])).length).toBe(
          entries.length,
        );
      }),
      { numRuns: 40 },
    );
  });

  it("are pages of 4,096 where no name ends one before", () => {
    const dull = namesFrom(1, 40_000)
      .filter((name) => hashOf(name) % 1024 !== 0)
      .slice(0, 9000);
    const nodes = new Nodes();
    const top = nodes.node(
      store(
        nodes,
        dull.map((name) => file(name)),
      ),
    );
    expect(top.kind === "pages" && top.pages.map(({ count }) => count)).toEqual([4096, 4096, 808]);
  });

  it("give a folder of one page as that page, without an index", () => {
    const names = namesFrom(2, 40_000).filter((name) => hashOf(name) % 1024 !== 0);
    for (const count of [3000, 4096]) {
      const nodes = new Nodes();
      expect(
        nodes.node(
          store(
            nodes,
            names.slice(0, count).map((name) => file(name)),
          ),
        ).kind,
      ).toBe("folder");
    }
  });
});

describe("a folder that is known", () => {
  /** Asks for names in their order; what is found, and what is gone. */
  function goThrough(nodes: Nodes, root: Uint8Array | undefined, asked: readonly string[], ours = true) {
    const gone: string[] = [];
    const found: Entry[] = [];
    const folder = new KnownFolder(nodes.bytes, root, ({ name }) => gone.push(name));
    for (const name of asked) {
      if (!folder.moveTo(name)) continue;
      const entry = folder.entry();
      expect(folder).toMatchObject({
        name,
        type: entry.type,
        mtime: entry.mtime,
        ctime: entry.ctime,
        inode: entry.inode,
        size: entry.size,
        sameFile: entry.sameFile,
        node: entry.node,
      });
      expect(folder.memory.subarray(folder.begin, folder.end)).toEqual(folder.bytes());
      if (ours) expect(folder.bytes()).toEqual(encodeEntry(entry));
      found.push(entry);
    }
    folder.finish();
    return { found, gone };
  }

  const kinds = fc.record(
    {
      type: fc.constantFrom("file" as const, "folder" as const, "link" as const),
      ctime: fc.constant(undefined),
      inode: fc.oneof(fc.constant(undefined), fc.bigInt({ min: 0n, max: 2n ** 64n - 1n })),
      mtime: fc.bigInt({ min: -(2n ** 62n), max: 2n ** 62n }),
      size: fc.maxSafeNat(),
      sameFile: fc.string(),
      dense: fc.constant(true),
      node: fc.uint8Array({ minLength: 32, maxLength: 32 }),
      extents: fc.array(fc.tuple(fc.maxSafeNat(), fc.maxSafeNat()), { minLength: 1, maxLength: 3 }),
      xattrs: fc.array(fc.tuple(fc.string({ minLength: 1, unit: "grapheme-ascii" }), fc.uint8Array()), {
        minLength: 1,
        maxLength: 3,
      }),
    },
    { requiredKeys: [] },
  );
  const others = new Encoder({ useRecords: false, variableMapSize: true, tagUint8Array: false });
  const asOthersWrite = (nodes: Nodes, entries: readonly Entry[], also: object): Uint8Array =>
    nodes.add(
      others.encode({
        e: entries.map((entry) => {
          const {
            e: [map],
          } = others.decode(encodeFolder([entry])) as { e: [object] };
          return { ...map, ...also };
        }),
        k: "f",
      }),
    );

  it("gives each entry that is asked for, and tells of each that is not, whoever encoded it", () => {
    fc.assert(
      fc.property(
        fc.uniqueArray(fc.tuple(fc.nat(40), kinds), { selector: ([name]) => name, maxLength: 30 }),
        fc.uniqueArray(fc.nat(40), { maxLength: 40 }),
        (had, wanted) => {
          const entries = had
            .map(([name, kind]) => file(`n${String(name).padStart(2, "0")}`, kind))
            .sort((a, b) => (a.name < b.name ? -1 : 1));
          const asked = wanted.map((name) => `n${String(name).padStart(2, "0")}`).sort();
          const nodes = new Nodes();
          const result = {
            found: entries.filter(({ name }) => asked.includes(name)).map((one) => decoded(one)),
            gone: entries.filter(({ name }) => !asked.includes(name)).map(({ name }) => name),
          };
          expect(goThrough(nodes, store(nodes, entries), asked)).toEqual(result);
          expect(goThrough(nodes, asOthersWrite(nodes, entries, {}), asked, false)).toEqual(result);
          const also = asOthersWrite(nodes, entries, { q: [1, { w: "x" }] });
          expect(goThrough(nodes, also, asked, false)).toEqual(result);
          // what a later writer may add, of a kind that is not known here, in one entry after others
          const later = nodes.add(withNull(entries));
          expect(goThrough(nodes, later, asked, false)).toEqual(result);
        },
      ),
      { numRuns: 60 },
    );
  });
  const decoded = (entry: Entry): Entry => {
    const node = decodeNode(encodeFolder([entry]));
    return (node as unknown as { entries: Entry[] }).entries[0]!;
  };
  /** The last entry has a value that only the general decoder reads: null. */
  const withNull = (entries: readonly Entry[]): Buffer => {
    const { e } = others.decode(encodeFolder(entries)) as { e: object[] };
    return Buffer.from(
      others.encode({ k: "f", e: e.map((map, i) => (i === e.length - 1 ? { ...map, q: null } : map)) }),
    );
  };

  it("is gone through page by page", () => {
    const names = namesFrom(3, 5_000);
    const nodes = new Nodes();
    const root = store(
      nodes,
      names.map((name) => file(name)),
    );
    const folder = new KnownFolder(nodes.bytes, root, () => {});
    const top = nodes.node(root);
    expect(folder.nodes).toEqual([root, ...(top.kind === "pages" ? top.pages.map(({ node }) => node) : [])]);
    const every = names.filter((_, i) => i % 3 === 0);
    const { found, gone } = goThrough(nodes, root, every);
    expect(found.map(({ name }) => name)).toEqual(every);
    expect(gone).toEqual(names.filter((_, i) => i % 3 !== 0));
  });

  it("is empty where it is not known", () => {
    const nodes = new Nodes();
    expect(new KnownFolder(nodes.bytes, undefined, () => {}).empty).toBe(true);
    expect(goThrough(nodes, undefined, ["a"])).toEqual({ found: [], gone: [] });
    const none = store(nodes, []);
    expect(new KnownFolder(nodes.bytes, none, () => {}).empty).toBe(false);
    expect(goThrough(nodes, none, ["a"])).toEqual({ found: [], gone: [] });
  });

  it("says so where its bytes are no folder's", () => {
    const nodes = new Nodes();
    const whole = encodeFolder([file("a"), file("b")]);
    for (let cut = 12; cut < whole.length; cut += 9)
      expect(() => goThrough(nodes, nodes.add(whole.subarray(0, cut)), ["a", "b"])).toThrow();
    expect(() => goThrough(nodes, nodes.add(encodeFolder([file("../a")])), ["b"])).toThrow(
      /no file can have/,
    );
  });
});
