import { createDecipheriv, hkdfSync } from "node:crypto";
import { readdirSync, readFileSync } from "node:fs";
import { join } from "node:path";
import zstd from "@mongodb-js/zstd";
import { Blake3Hasher } from "@napi-rs/blake-hash";
import { decode } from "cbor-x";

/**
 * A reader of depots that was written from docs/store-format.md and shares no code with the product: what it cannot read
 * is a fault of the product or of the page. Nothing here may import from `src`.
 */
export interface ReadEntry {
  readonly path: string;
  readonly type: "file" | "folder" | "link";
  readonly mode: number;
  readonly owner: readonly [uid: number, gid: number];
  /** Seconds and nanoseconds. */
  readonly changed: readonly [number, number];
  readonly attributes: ReadonlyMap<string, Buffer>;
  readonly content: Buffer | null;
  readonly target: string | null;
  readonly sameFile: string | null;
}

export interface ReadPoint {
  readonly id: string;
  readonly sourceName: string;
  readonly kind: string;
  readonly moment: number;
  readonly policy: string;
  readonly counts: { files: number; folders: number; links: number; bytes: number };
  readonly entries: () => Promise<ReadEntry[]>;
}

const ALPHABET = "0123456789ABCDEFGHJKMNPQRSTVWXYZ";

/** Multiplication in GF(32) with the polynomial x^5 + x^2 + 1. */
function multiply(a: number, b: number): number {
  let product = 0;
  for (let bit = 0; bit < 5; bit += 1) if (b & (1 << bit)) product ^= a << bit;
  for (let bit = 9; bit >= 5; bit -= 1) if (product & (1 << bit)) product ^= 0b100101 << (bit - 5);
  return product;
}
const power = (exponent: number): number => {
  let value = 1;
  for (let i = 0; i < exponent; i += 1) value = multiply(value, 2);
  return value;
};

/** The key of a sheet. Throws for a group whose fifth character does not check the others. */
export function keyOfSheet(groups: readonly string[]): Buffer {
  let bits = "";
  groups.forEach((group, g) => {
    const values = [...group].map((letter) => ALPHABET.indexOf(letter));
    const [v0, v1, v2, v3, check] = values as [number, number, number, number, number];
    const sum =
      multiply(v0, power(1)) ^
      multiply(v1, power(2)) ^
      multiply(v2, power(3)) ^
      multiply(v3, power(4)) ^
      multiply(g + 1, power(7));
    if (sum !== check) throw new Error(`group ${g + 1} has a slip`);
    for (const value of [v0, v1, v2, v3]) bits += value.toString(2).padStart(5, "0");
  });
  if (!/^0{4}$/.test(bits.slice(256))) throw new Error("the last bits are not zero");
  return Buffer.from(Array.from({ length: 32 }, (_, i) => Number.parseInt(bits.slice(i * 8, i * 8 + 8), 2)));
}

const derive = (key: Buffer, salt: Buffer, info: string): Buffer =>
  Buffer.from(hkdfSync("sha256", key, salt, info, 32));
const hash = (key: Buffer, bytes: Buffer): string =>
  Blake3Hasher.newKeyed(key).update(bytes).digestBuffer().toString("hex");

/** Opens the sealed part at a place of an object. */
function open(key: Buffer, object: Buffer, place: number, from: number, length: number): Buffer {
  const nonce = Buffer.alloc(12);
  nonce.writeUInt32BE(place, 8);
  const sealed = object.subarray(from, from + length);
  const decipher = createDecipheriv(
    "aes-256-gcm",
    derive(key, object.subarray(16, 32), "deep-keep/1 object"),
    nonce,
  );
  decipher.setAAD(object.subarray(0, 32));
  decipher.setAuthTag(sealed.subarray(sealed.length - 16));
  return Buffer.concat([decipher.update(sealed.subarray(0, sealed.length - 16)), decipher.final()]);
}

const framed = (bytes: Buffer): Buffer => bytes.subarray(4, 4 + bytes.readUInt32LE(0));

function checkHeader(object: Buffer, kind: number): void {
  if (object.subarray(0, 8).toString() !== "DEEPKEEP") throw new Error("no object of the store");
  if (object.readUInt16LE(8) > 1) throw new Error("written by a newer version");
  if (object[10] !== kind) throw new Error("an object of another kind");
}

type Block = [
  offset: number,
  sealed: number,
  packed: number,
  compressed: number,
  ids: Buffer,
  lengths: number[],
];

/** Every chunk of a space by its id in hex. Small depots only: all of it is held in memory. */
async function readPacks(key: Buffer, folder: string): Promise<Map<string, Buffer>> {
  const chunks = new Map<string, Buffer>();
  for (const shelf of readdirSync(folder)) {
    for (const name of readdirSync(join(folder, shelf))) {
      if (name.endsWith(".part")) continue;
      const pack = readFileSync(join(folder, shelf, name));
      checkHeader(pack, 1);
      const trailer = pack.subarray(pack.length - 24);
      if (trailer.subarray(16).toString() !== "KEEPDEEP") throw new Error("a pack without an end");
      const at = Number(trailer.readBigUInt64LE(0));
      const length = trailer.readUInt32LE(8);
      if (at + length + 24 !== pack.length) throw new Error("a pack whose end does not fit");
      const { b } = decode(framed(open(key, pack, 0xffffffff, at, length))) as { b: Block[] };
      if (b.length !== trailer.readUInt32LE(12)) throw new Error("a pack with another number of blocks");
      for (const [place, [offset, sealed, packed, compressed, ids, lengths]] of b.entries()) {
        const inner = open(key, pack, place, offset, sealed).subarray(0, packed);
        const block = compressed ? await zstd.decompress(inner) : inner;
        let from = 0;
        for (const [i, size] of lengths.entries()) {
          const id = ids.subarray(i * 32, i * 32 + 32).toString("hex");
          chunks.set(id, block.subarray(from, from + size));
          from += size;
        }
        if (from !== block.length) throw new Error("a block with more than its chunks");
      }
    }
  }
  return chunks;
}

interface NodeEntry {
  n: Buffer;
  t: "f" | "d" | "l";
  m: number;
  u: number;
  g: number;
  mt: [number, number];
  x?: [Buffer, Buffer][];
  z?: number;
  c?: Buffer;
  r?: Buffer;
  e?: [number, number][];
  h?: string;
  l?: Buffer;
  s?: Buffer;
}
type Node = { k: "f"; e: NodeEntry[] } | { k: "p"; p: [Buffer, Buffer, number][] } | { k: "c"; c: Buffer };

class Space {
  private readonly chunkKey: Buffer;
  private readonly treeKey: Buffer;
  constructor(
    key: Buffer,
    private readonly chunks: ReadonlyMap<string, Buffer>,
  ) {
    this.chunkKey = derive(key, Buffer.alloc(0), "deep-keep/1 chunk id");
    this.treeKey = derive(key, Buffer.alloc(0), "deep-keep/1 tree id");
  }

  private get(id: Buffer, key: Buffer): Buffer {
    const bytes = this.chunks.get(id.toString("hex"));
    if (!bytes) throw new Error("a chunk is in no pack");
    if (hash(key, bytes) !== id.toString("hex")) throw new Error("a chunk is not what its id says");
    return bytes;
  }
  private node = (id: Buffer): Node => decode(this.get(id, this.treeKey)) as Node;

  private content(entry: NodeEntry): Buffer {
    const lists = entry.r
      ? ids(entry.r).map((id) => {
          const node = this.node(id);
          if (node.k !== "c") throw new Error("no chunk list");
          return node.c;
        })
      : [entry.c ?? Buffer.alloc(0)];
    const stored = Buffer.concat(lists.flatMap(ids).map((id) => this.get(id, this.chunkKey)));
    const content = Buffer.alloc(entry.z ?? 0);
    let from = 0;
    for (const [offset, length] of entry.e ?? [[0, content.length]]) {
      stored.copy(content, offset!, from, from + length!);
      from += length!;
    }
    if (from !== stored.length) throw new Error("a file with more content than its length");
    return content;
  }

  *walk(id: Buffer, path: string): Generator<ReadEntry> {
    const node = this.node(id);
    if (node.k === "p") for (const [, page] of node.p) yield* this.walk(page, path);
    if (node.k !== "f") return;
    for (const entry of node.e) {
      const own = `${path}/${entry.n.toString("latin1")}`;
      yield {
        path: own,
        type: ({ f: "file", d: "folder", l: "link" } as const)[entry.t],
        mode: entry.m,
        owner: [entry.u, entry.g],
        changed: entry.mt,
        attributes: new Map((entry.x ?? []).map(([name, value]) => [name.toString("latin1"), value])),
        content: entry.t === "f" ? this.content(entry) : null,
        target: entry.l?.toString("latin1") ?? null,
        sameFile: entry.h ?? null,
      };
      if (entry.s) yield* this.walk(entry.s, own);
    }
  }
}

const ids = (all: Buffer): Buffer[] =>
  Array.from({ length: all.length / 32 }, (_, i) => all.subarray(i * 32, i * 32 + 32));

/** The points of a depot that a key opens, newest first. */
export function readDepot(folder: string, key: Buffer): ReadPoint[] {
  const about = JSON.parse(readFileSync(join(folder, "deep-keep-depot.json"), "utf8")) as {
    format: string;
    version: number;
  };
  if (about.format !== "deep-keep-depot") throw new Error("no depot");
  if (about.version > 1) throw new Error("written by a newer version");
  const found: ReadPoint[] = [];
  for (const space of readdirSync(join(folder, "spaces"))) {
    const base = join(folder, "spaces", space);
    for (const name of readdirSync(join(base, "points"))) {
      const object = readFileSync(join(base, "points", name));
      checkHeader(object, 2);
      let body: Buffer;
      try {
        body = open(key, object, 0, 32, object.length - 32);
      } catch {
        break; // another client's
      }
      const { root, ...point } = decode(framed(body)) as Omit<ReadPoint, "id" | "entries"> & { root: Buffer };
      found.push({
        ...point,
        id: name,
        entries: async () => [
          ...new Space(key, await readPacks(key, join(base, "packs"))).walk(Buffer.from(root), ""),
        ],
      });
    }
  }
  return found.sort((a, b) => b.moment - a.moment);
}
