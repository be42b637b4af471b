import { randomBytes } from "node:crypto";
import { mkdirSync, readFileSync, rmSync, symlinkSync, writeFileSync } from "node:fs";
import { join } from "node:path";
import { Encoder } from "cbor-x";
import fc from "fast-check";
import { describe, expect, it, vi } from "vitest";
import { freshFolder, snap, TestDepot } from "../../tests/depot";
import { packName } from "./packs/layout";
import { cborEncoder } from "./packs/pack";
import { LocalFolder } from "./places/local-folder";
import { fileBytes, findEntry, walkTree } from "./read/browse";
import { StoreReader } from "./read/reader";
import { deriveStoreKeys } from "./seal/keys";
import { paddedLength } from "./seal/sealing";
import { openPoint, sealPoint } from "./tree/point";
import { byteString, decodeNode, type Entry, encodeFolder, showBytes } from "./tree/tree";
import { StoreWriter } from "./write/writer";

describe("packs", () => {
  it("give back every chunk, whatever its length and however it compresses", async () => {
    await fc.assert(
      fc.asyncProperty(
        fc.array(fc.tuple(fc.nat(300_000), fc.boolean()), { maxLength: 40 }),
        async (shapes) => {
          const depot = new TestDepot();
          const writer = new StoreWriter(depot.keys, depot);
          const chunks = shapes.map(([length, noisy]) =>
            noisy ? randomBytes(length) : Buffer.alloc(length, length % 256),
          );
          const ids = chunks.map((chunk) => writer.add("data", chunk));
          await writer.close();
          const reader = depot.reader();
          for (let i = 0; i < ids.length; i += 1)
            expect((await reader.chunk(ids[i]!)).equals(chunks[i]!)).toBe(true);
        },
      ),
      { numRuns: 20 },
    );
  });

  it("store a chunk once, however often it comes", async () => {
    const depot = new TestDepot();
    const chunk = randomBytes(100_000);
    for (let i = 0; i < 3; i += 1) {
      const writer = new StoreWriter(depot.keys, depot);
      writer.add("data", chunk);
      writer.add("data", Buffer.from(chunk));
      expect((await writer.close()).newChunks).toBe(i === 0 ? 1 : 0);
    }
  });

  it("pass an error of the place on, and do not hang", async () => {
    const depot = new TestDepot();
    depot.putPack = () => Promise.reject(new Error("no room"));
    const writer = new StoreWriter(depot.keys, depot);
    await expect(
      (async () => {
        for (let i = 0; i < 200; i += 1) {
          writer.add("data", randomBytes(1024 * 1024));
          await writer.room();
        }
        await writer.close();
      })(),
    ).rejects.toThrow("no room");
  });
});

describe("a reader", () => {
  it("asks once where things lie that lie beside each other", async () => {
    const root = freshFolder("beside");
    for (let i = 0; i < 60; i += 1) {
      mkdirSync(join(root, `folder ${i}`));
      writeFileSync(join(root, `folder ${i}`, "letter"), `letter ${i}`);
    }
    const depot = new TestDepot();
    const { root: tree } = await snap(depot, root);
    let asked = 0;
    const reader = new StoreReader(depot.keys, {
      open: (packId) => depot.open(packId),
      locate: (ids) => {
        asked += 1;
        return depot.locate(ids);
      },
    });
    let files = 0;
    for await (const { entry } of walkTree(reader, tree, "/")) if (entry.type === "file") files += 1;
    expect(files).toBe(60);
    expect(asked).toBe(1);
  });

  describe("that reads ahead", () => {
    /** Chunks of a MiB, each in a block of its own, in several packs; and how often packs are read from. */
    async function shelf(
      count: number,
      wait: () => Promise<void> = async () => {},
      make: (i: number) => Buffer = () => randomBytes(1024 * 1024),
    ) {
      const depot = new TestDepot();
      const writer = new StoreWriter(depot.keys, depot);
      const chunks = Array.from({ length: count }, (_, i) => make(i));
      const ids: Buffer[] = [];
      for (const chunk of chunks) {
        ids.push(writer.add("data", chunk));
        await writer.room();
      }
      await writer.close();
      let reads = 0;
      let bytes = 0;
      const reader = new StoreReader(
        depot.keys,
        {
          locate: (asked) => depot.locate(asked),
          open: async (packId) => {
            const pack = await depot.open(packId);
            return {
              size: pack.size,
              read: async (offset, length) => {
                reads += 1;
                bytes += length;
                await wait();
                return pack.read(offset, length);
              },
            };
          },
        },
        true,
      );
      return { chunks, ids, reader, reads: () => reads, bytes: () => bytes, packs: depot.packs.length };
    }

    it("fetches more at once while one block follows the other, also into the next pack", async () => {
      const { chunks, ids, reader, reads, packs } = await shelf(48);
      expect(packs).toBeGreaterThan(2);
      for (const [i, id] of ids.entries()) expect((await reader.chunk(id)).equals(chunks[i]!)).toBe(true);
      // header, trailer and directory of each pack, and some stretches in place of 48 blocks
      expect(reads() - 3 * packs).toBeLessThan(17);
    });

    it("opens each pack of the tiniest files once while it passes them, though few of their directories are kept", async () => {
      const depot = new TestDepot();
      const writer = new StoreWriter(depot.keys, depot, "none");
      const chunkOf = (number: number) => {
        const bytes = Buffer.alloc(8);
        bytes.writeUInt32LE(number);
        return bytes;
      };
      const ids: Buffer[] = [];
      for (let number = 0; number < 400_000; number += 1) {
        ids.push(writer.add("data", chunkOf(number)));
        if (writer.crowded || number % 50_000 === 0) await writer.drain();
      }
      await writer.close();
      let opened = 0;
      const source = {
        locate: (asked: readonly Uint8Array[]) => depot.locate(asked),
        open: (packId: string) => {
          opened += 1;
          return depot.open(packId);
        },
      };
      const reader = new StoreReader(depot.keys, source, true);
      const wrong: number[] = [];
      for (const [number, id] of ids.entries()) {
        if (number % 1000 === 0) await reader.locate(ids.slice(number, number + 1000));
        // another walks ahead, into the next pack and back
        const ahead = ids[Math.min(number + 2000, ids.length - 1)]!;
        if (number % 500 === 0) await reader.soon(ahead);
        if ((await reader.chunk(id)).readUInt32LE() !== number) wrong.push(number);
      }
      expect(wrong).toEqual([]);
      expect(depot.packs.length).toBeGreaterThan(3);
      expect(opened).toBe(depot.packs.length);
      // what was passed long ago is not kept
      await reader.chunk(ids[0]!);
      expect(opened).toBe(depot.packs.length + 1);
    });

    it("reads nothing behind a chunk that lies elsewhere, and goes on where it was", async () => {
      const { chunks, ids, reader, bytes } = await shelf(48);
      const order = [20, 21, 5, 22, 10, 23, 37, 24, 42, 25, 5, 26];
      for (const i of order) expect((await reader.chunk(ids[i]!)).equals(chunks[i]!)).toBe(true);
      // seven in a row and those that follow them in their pack, and four elsewhere, but not those behind them
      expect(bytes() / 1024 ** 2).toBeLessThan(18);
    });

    /** Tells of chunks one after another, as long as it is let. */
    function teller(reader: StoreReader, ids: readonly Buffer[]) {
      const state = { told: 0 };
      void (async () => {
        await reader.locate(ids);
        for (const id of ids) {
          await reader.soon(id);
          state.told += 1;
        }
      })();
      return state;
    }

    it("fetches and opens what is told to be read soon, so much and no more", async () => {
      const { chunks, ids, reader, bytes } = await shelf(48);
      const state = teller(reader, ids);
      await vi.waitFor(() => expect(state.told).toBeGreaterThan(3));
      await new Promise((next) => setTimeout(next, 100));
      const [told, fetched] = [state.told, bytes()];
      expect(told).toBeLessThan(22);
      expect(fetched / 1024 ** 2).toBeLessThan(32);
      // what lies open already is read without fetching
      for (let i = 0; i < 3; i += 1) expect((await reader.chunk(ids[i]!)).equals(chunks[i]!)).toBe(true);
      await vi.waitFor(() => expect(state.told).toBeGreaterThan(told));
      for (const [i, id] of ids.entries()) expect((await reader.chunk(id)).equals(chunks[i]!)).toBe(true);
      expect(state.told).toBe(ids.length);
      // each block once, and the directories
      expect(bytes() / 1024 ** 2).toBeLessThan(48 * 1.1);
    });

    it("lets go of what was told when something else is read", async () => {
      const { chunks, ids, reader } = await shelf(48);
      const state = teller(reader, ids.slice(0, 30));
      await vi.waitFor(() => expect(state.told).toBeGreaterThan(3));
      for (let i = 47; i >= 0; i -= 1) expect((await reader.chunk(ids[i]!)).equals(chunks[i]!)).toBe(true);
      await vi.waitFor(() => expect(state.told).toBe(30));
    });

    it("says what is wrong with a chunk when it is read, not when it is told", async () => {
      let broken = true;
      const { chunks, ids, reader } = await shelf(6, async () => {
        if (broken) throw new Error("the line is cut");
      });
      await reader.locate(ids);
      for (const id of [...ids, randomBytes(32)]) await reader.soon(id);
      await expect(reader.chunk(ids[2]!)).rejects.toThrow("the line is cut");
      broken = false;
      for (const [i, id] of ids.entries()) {
        await reader.soon(id);
        expect((await reader.chunk(id)).equals(chunks[i]!)).toBe(true);
      }
    });

    it("gives the same in any order, whatever is told", async () => {
      const { chunks, ids, reader } = await shelf(24);
      const some = fc.shuffledSubarray(
        ids.map((_id, i) => i),
        { minLength: 4 },
      );
      await fc.assert(
        fc.asyncProperty(some, some, async (order, told) => {
          teller(
            reader,
            told.map((i) => ids[i]!),
          );
          for (const i of order) expect((await reader.chunk(ids[i]!)).equals(chunks[i]!)).toBe(true);
        }),
        { numRuns: 10 },
      );
    });

    it("tries again what could not be fetched", async () => {
      let broken = false;
      const { chunks, ids, reader } = await shelf(12, async () => {
        if (broken) throw new Error("the line is cut");
      });
      expect((await reader.chunk(ids[0]!)).equals(chunks[0]!)).toBe(true);
      broken = true;
      await expect(reader.chunk(ids[9]!)).rejects.toThrow("the line is cut");
      broken = false;
      for (const [i, id] of ids.entries()) expect((await reader.chunk(id)).equals(chunks[i]!)).toBe(true);
    });

    it("uses its memory again, but for what is held and for what was read lately", async () => {
      const { chunks, ids, reader } = await shelf(110);
      const memories = new Set<ArrayBufferLike>();
      await reader.chunk(ids[0]!);
      const held = reader.atHand(ids[0]!)!;
      held.holder.hold();
      const lately: { readonly content: Buffer; readonly i: number }[] = [];
      for (const [i, id] of ids.entries()) {
        const content = await reader.chunk(id);
        memories.add(content.buffer);
        lately.push({ content, i });
        // far more than it promises, where blocks are short
        if (lately.length > 8) lately.shift();
        for (const one of [lately[0]!, lately.at(-1)!])
          expect(one.content.equals(chunks[one.i]!), `chunk ${one.i} when ${i} was read`).toBe(true);
      }
      expect(memories.size).toBeLessThan(80);
      expect(held.bytes.equals(chunks[0]!)).toBe(true);
      held.holder.release();
      expect((await reader.chunk(ids[0]!)).equals(chunks[0]!)).toBe(true);
    });

    it("leaves what was read last as it is, however long the blocks are that it opens meanwhile", async () => {
      // each pair is one block, just below the longest that there is, and a pack holds many of them
      const { chunks, ids, reader } = await shelf(48, undefined, (i) =>
        Buffer.alloc(i % 2 ? 3_950_000 : 1_040_000, `${i} the tide came in over the slipway\n`),
      );
      const lately: { readonly content: Buffer; readonly i: number }[] = [];
      for (const [i, id] of ids.entries()) {
        lately.push({ content: await reader.chunk(id), i });
        // what is opened beforehand comes meanwhile
        await new Promise((next) => setTimeout(next, 5));
        if (lately.length > 6) lately.shift();
        for (const one of lately)
          expect(one.content.equals(chunks[one.i]!), `chunk ${one.i} when ${i} was read`).toBe(true);
      }
    });

    it("has at hand what lies beside what was read last", async () => {
      const depot = new TestDepot();
      const writer = new StoreWriter(depot.keys, depot);
      const letters = ["one", "two", "three"].map((text) => Buffer.from(text));
      const ids = letters.map((letter) => writer.add("data", letter));
      await writer.close();
      const reader = depot.reader();
      expect(reader.atHand(ids[0]!)).toBeNull();
      await reader.chunk(ids[0]!);
      expect(ids.map((id) => reader.atHand(id)?.bytes.toString())).toEqual(["one", "two", "three"]);
      expect(reader.atHand(Buffer.alloc(32))).toBeNull();
    });
  });

  it.each([false, true])("refuses a chunk alone that is not what its id says (ahead: %s)", async (ahead) => {
    const depot = new TestDepot();
    const writer = new StoreWriter(depot.keys, depot);
    const forged = randomBytes(32);
    writer.addNamed("data", forged, Buffer.from("what somebody else would rather have stored"));
    const data = writer.add("data", Buffer.from("content"));
    const node = writer.add("tree", encodeFolder([]));
    writer.addNamed("tree", randomBytes(32), encodeFolder([]));
    await writer.close();
    const reader = new StoreReader(depot.keys, depot, ahead);
    await expect(reader.chunk(forged)).rejects.toThrow(/not what its id says/);
    expect((await reader.chunk(data)).toString()).toBe("content");
    expect(() => reader.atHand(forged)).toThrow(/not what its id says/);
    expect(reader.atHand(data)!.bytes.toString()).toBe("content");
    // content is no node, and a node no content, whatever it was looked at as when it was opened
    await expect(reader.node(data)).rejects.toThrow(/not what its id says/);
    await expect(reader.chunk(node)).rejects.toThrow(/not what its id says/);
    expect(await reader.node(node)).toMatchObject({ kind: "folder" });
  });

  it("finds what it saw in a pack that was written anew since", async () => {
    const folder = freshFolder("depot");
    const depot = new TestDepot(new LocalFolder(folder), folder);
    // each in a block of its own
    const chunks = [randomBytes(1_500_000), randomBytes(1_500_000)];
    const store = async () => {
      const writer = new StoreWriter(depot.keys, {
        known: async (ids) => ids.map(() => false),
        putPack: (id, parts, holds) => depot.putPack(id, parts, holds),
      });
      const ids = chunks.map((chunk) => writer.add("data", chunk));
      await writer.close();
      return ids;
    };
    const ids = await store();
    const reader = depot.reader();
    expect((await reader.chunk(ids[0]!)).equals(chunks[0]!)).toBe(true);
    const before = [...depot.packs];
    await store();
    for (const pack of before) rmSync(join(folder, packName("s", pack)));
    expect((await reader.chunk(ids[1]!)).equals(chunks[1]!)).toBe(true);
  });

  it("asks where a chunk lies when all packs are gone that it saw it in", async () => {
    const folder = freshFolder("depot");
    const depot = new TestDepot(new LocalFolder(folder), folder);
    // each in a block of its own; the last one is in every pack
    const chunks = [0, 1, 2].map(() => randomBytes(1_500_000));
    const ids: Buffer[] = [];
    for (const held of [[0, 2], [1, 2], [2]]) {
      const writer = new StoreWriter(depot.keys, {
        known: async (asked) => asked.map(() => false),
        putPack: (id, parts, holds) => depot.putPack(id, parts, holds),
      });
      for (const i of held) ids[i] = writer.add("data", chunks[i]!);
      await writer.close();
    }
    const [first, second, third] = depot.packs as [string, string, string];
    let there = first;
    const reader = new StoreReader(depot.keys, {
      locate: async (asked) => asked.map(() => there),
      open: (packId) => depot.open(packId),
    });
    await reader.locate(ids.slice(0, 1));
    there = second;
    await reader.locate(ids.slice(1, 2));
    for (const i of [0, 1]) expect((await reader.chunk(ids[i]!)).equals(chunks[i]!)).toBe(true);
    there = third;
    for (const pack of [first, second]) rmSync(join(folder, packName("s", pack)));
    expect((await reader.chunk(ids[2]!)).equals(chunks[2]!)).toBe(true);
  });
});

describe("what is altered is found", () => {
  async function oneFile() {
    const root = freshFolder("altered");
    writeFileSync(join(root, "file"), randomBytes(3000));
    const folder = freshFolder("depot");
    const depot = new TestDepot(new LocalFolder(folder), folder);
    const { root: tree } = await snap(depot, root);
    const path = join(folder, packName("s", depot.packs[0]!));
    return { depot, tree, path, bytes: readFileSync(path) };
  }
  async function readAll(depot: TestDepot, tree: Uint8Array) {
    const reader = depot.reader();
    for await (const { entry } of walkTree(reader, tree, "/"))
      if (entry.type === "file") for await (const part of fileBytes(reader, entry)) void part;
  }

  it("wherever one bit of a pack is flipped", async () => {
    const { depot, tree, path, bytes } = await oneFile();
    await readAll(depot, tree);
    // bytes 11 to 15 of the header are bound too; every place of the pack is tried in steps that hit all its parts
    for (let at = 0; at < bytes.length; at += at < 40 || at > bytes.length - 30 ? 1 : 397) {
      const damaged = Buffer.from(bytes);
      damaged[at]! ^= 1 << (at % 8);
      writeFileSync(path, damaged);
      await expect(readAll(depot, tree), `bit at ${at} of ${bytes.length}`).rejects.toMatchObject({
        name: "CodedError",
      });
    }
  });

  it("wherever a pack is cut", async () => {
    const { depot, tree, path, bytes } = await oneFile();
    for (let length = 0; length < bytes.length; length += 501) {
      writeFileSync(path, bytes.subarray(0, length));
      await expect(readAll(depot, tree)).rejects.toMatchObject({ code: "store.damaged" });
    }
  });

  it("when another client's key is used", async () => {
    const { depot, tree } = await oneFile();
    const other = new StoreReader(deriveStoreKeys(Buffer.alloc(32, 6)), depot);
    await expect(other.node(tree)).rejects.toMatchObject({ code: "store.damaged" });
  });
});

describe("recovery points", () => {
  const keys = deriveStoreKeys(Buffer.alloc(32, 1));
  const content = {
    sourceId: "s",
    sourceName: "quill-lt-04 files",
    machineName: "quill-lt-04",
    kind: "files" as const,
    moment: 1_763_400_000_000,
    root: randomBytes(32),
    counts: { files: 1, folders: 2, links: 0, bytes: 3 },
    previous: null,
    policy: "{}",
  };
  it("open with their key alone and tell nothing without it", () => {
    const id = randomBytes(16);
    const sealed = sealPoint(keys, id, content);
    expect(openPoint(keys, sealed)).toEqual({ id, content: { ...content, root: Buffer.from(content.root) } });
    expect(sealed.includes("quill-lt-04")).toBe(false);
    expect(() => openPoint(deriveStoreKeys(Buffer.alloc(32, 2)), sealed)).toThrow(/key does not match/);
  });
  it("say so when they come from a newer version", () => {
    const sealed = sealPoint(keys, randomBytes(16), content);
    sealed.writeUInt16LE(2, 8);
    expect(() => openPoint(keys, sealed)).toThrow(/newer version/);
  });
});

describe("trees", () => {
  const entry = (name: string, change: Partial<Entry> = {}): Entry => ({
    name,
    type: "file",
    mode: 0o644,
    uid: 0,
    gid: 0,
    mtime: 0n,
    ...change,
  });

  it("come back from their nodes", () => {
    const names = fc.string({
      unit: fc.integer({ min: 1, max: 255 }).map((code) => String.fromCharCode(code)),
      minLength: 1,
    });
    const usable = names.filter((name) => !name.includes("/") && name !== "." && name !== "..");
    fc.assert(
      fc.property(
        usable,
        fc.bigInt({ min: -(2n ** 60n), max: 2n ** 61n }),
        fc.bigInt({ min: 0n, max: 2n ** 64n - 1n }),
        (name, mtime, inode) => {
          const [read] = (
            decodeNode(encodeFolder([entry(name, { mtime, ctime: mtime, inode })])) as unknown as {
              entries: Entry[];
            }
          ).entries;
          expect(read).toMatchObject({ name, mtime, inode });
        },
      ),
    );
  });

  const bytes = (text: string) => Buffer.from(text, "latin1");
  const time = (at: bigint) => {
    const nanoseconds = ((at % 1_000_000_000n) + 1_000_000_000n) % 1_000_000_000n;
    return [Number((at - nanoseconds) / 1_000_000_000n), Number(nanoseconds)];
  };
  const asMap = (one: Entry) =>
    Object.fromEntries(
      Object.entries({
        n: bytes(one.name),
        t: { file: "f", folder: "d", link: "l" }[one.type],
        m: one.mode,
        u: one.uid,
        g: one.gid,
        mt: time(one.mtime),
        ct: one.ctime === undefined ? undefined : time(one.ctime),
        i: one.inode !== undefined && one.inode < 2n ** 53n ? Number(one.inode) : one.inode,
        x: one.xattrs?.length ? one.xattrs.map(([name, value]) => [bytes(name), value]) : undefined,
        z: one.size,
        c: one.chunks,
        r: one.chunkPages,
        e: one.extents,
        h: one.sameFile,
        y: one.dense ? 1 : undefined,
        l: one.target === undefined ? undefined : bytes(one.target),
        s: one.node,
      }).filter(([, value]) => value !== undefined),
    );
  const text = fc.string({ unit: fc.nat(255).map((code) => String.fromCharCode(code)), maxLength: 300 });
  const maybe = <T>(of: fc.Arbitrary<T>) => fc.option(of, { nil: undefined });
  const u32 = fc.oneof(fc.nat(70_000), fc.integer({ min: 0, max: 2 ** 32 - 1 }));
  const instant = fc.oneof(
    fc.bigInt({ min: -(2n ** 63n), max: 2n ** 63n - 1n }),
    // where seconds begin and end
    fc
      .tuple(fc.bigInt({ min: -(10n ** 9n), max: 9n * 10n ** 9n }), fc.integer({ min: -2, max: 2 }))
      .map(([seconds, more]) => seconds * 1_000_000_000n + BigInt(more)),
  );
  const length = fc.oneof(u32, fc.maxSafeNat());
  const ids = fc.nat(9).chain((n) => fc.uint8Array({ minLength: 32 * n, maxLength: 32 * n }));
  const anyEntry: fc.Arbitrary<Entry> = fc.record({
    name: text,
    type: fc.constantFrom("file", "folder", "link"),
    mode: fc.nat(0o7777),
    uid: u32,
    gid: u32,
    mtime: instant,
    ctime: maybe(instant),
    inode: maybe(fc.oneof(fc.bigInt({ min: 0n, max: 2n ** 64n - 1n }), fc.nat().map(BigInt))),
    xattrs: maybe(fc.array(fc.tuple(text, fc.uint8Array()), { maxLength: 3 })),
    size: maybe(length),
    chunks: maybe(ids),
    chunkPages: maybe(ids),
    extents: maybe(fc.array(fc.tuple(length, length), { maxLength: 4 })),
    sameFile: maybe(fc.string({ maxLength: 90 })),
    dense: maybe(fc.boolean()),
    target: maybe(text),
    node: maybe(ids),
  });

  it("are written as CBOR's encoder writes them, so that what is unchanged keeps its id whichever program wrote it", () => {
    fc.assert(
      fc.property(fc.array(anyEntry, { maxLength: 40 }), (entries) => {
        const wanted = cborEncoder.encode({ k: "f", e: entries.map(asMap) });
        expect(encodeFolder(entries).equals(wanted)).toBe(true);
      }),
      { numRuns: 300 },
    );
    const many = Array.from({ length: 70_000 }, (_, i) => entry(`file ${i}`, { size: i }));
    expect(encodeFolder(many).equals(cborEncoder.encode({ k: "f", e: many.map(asMap) }))).toBe(true);
  });

  it("are read as CBOR's decoder reads them, also where another writer wrote them otherwise, or more", () => {
    const usable = anyEntry.filter(
      ({ name }) => name !== "" && name !== "." && name !== ".." && !/[/\0]/.test(name),
    );
    const others = new Encoder({ useRecords: false, variableMapSize: true, tagUint8Array: false });
    const plain = (value: unknown): unknown =>
      value instanceof Uint8Array
        ? Buffer.from(value).toString("hex")
        : Array.isArray(value)
          ? value.map(plain)
          : value;
    const told = (entries: readonly Entry[]) =>
      entries.map((one) =>
        Object.fromEntries(
          Object.entries(one)
            .filter(
              ([, value]) =>
                value !== undefined && value !== false && !(Array.isArray(value) && value.length === 0),
            )
            .map(([key, value]) => [key, plain(value)]),
        ),
      );
    const read = (node: Buffer) => {
      const content = decodeNode(node);
      return content.kind === "folder" ? told(content.entries) : null;
    };
    fc.assert(
      fc.property(fc.array(usable, { maxLength: 20 }), fc.nat(), (entries, cut) => {
        const wanted = told(
          entries.map((one) => ({ ...one, extents: one.extents?.length ? one.extents : undefined })),
        );
        const node = encodeFolder(entries);
        expect(read(node)).toEqual(wanted);
        expect(read(others.encode({ k: "f", e: entries.map(asMap) }))).toEqual(wanted);
        expect(
          read(cborEncoder.encode({ k: "f", e: entries.map((one) => ({ ...asMap(one), q: [1] })) })),
        ).toEqual(wanted);
        expect(() => decodeNode(node.subarray(0, cut % node.length))).toThrow();
      }),
      { numRuns: 200 },
    );
  });

  it("are refused where they count more than they hold", () => {
    const node = encodeFolder([entry("ledger", { extents: [[0, 7]] })]);
    // the count of the extents: an array of one becomes one of 2 ** 52
    const at = node.indexOf(Buffer.from([0x61, 0x65, 0x81, 0x82]));
    expect(at).toBeGreaterThan(0);
    const many = Buffer.from([0x9b, 0, 0x10, 0, 0, 0, 0, 0, 0]);
    const wrong = Buffer.concat([node.subarray(0, at + 2), many, node.subarray(at + 3)]);
    expect(() => decodeNode(wrong)).toThrow();
  });

  it.each(["..", ".", "", "a/b", "a\0b"])("refuse the name %j, which would reach outside", (name) => {
    expect(() => decodeNode(encodeFolder([entry(name)]))).toThrow(/no file can have/);
  });

  it("show bytes that are no text without hiding the rest", () => {
    expect(showBytes(byteString("größer ☂"))).toBe("größer ☂");
    expect(showBytes(`f\xff${byteString("ü")}`)).toBe("f\\xffü");
  });

  it("find a path, and nothing where there is none", async () => {
    const root = freshFolder("find");
    mkdirSync(join(root, "a/b"), { recursive: true });
    writeFileSync(join(root, "a/b/c"), "found");
    symlinkSync("a", join(root, "l"));
    const depot = new TestDepot();
    const { root: tree } = await snap(depot, root);
    expect((await findEntry(depot.reader(), tree, "/a/b/c"))?.size).toBe(5);
    for (const path of ["/a/b/d", "/a/b/c/d", "/l/b", "/z"])
      expect(await findEntry(depot.reader(), tree, path)).toBeNull();
  });
});

describe("padding", () => {
  it("adds 12 % at most, and hides the size of a small file", () => {
    fc.assert(
      fc.property(fc.integer({ min: 1, max: 2 ** 26 }), (length) => {
        const padded = paddedLength(length);
        expect(padded).toBeGreaterThanOrEqual(length);
        expect(padded).toBeLessThanOrEqual(Math.max(4096, length * 1.12));
      }),
    );
    expect(paddedLength(5)).toBe(paddedLength(4000));
  });
});
