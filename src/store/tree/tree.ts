import { CodedError } from "@/core/codes";
import { cborDecoder, cborEncoder } from "../packs/pack";
import { CborReader, UnknownCbor } from "./cbor-reader";
import { CborWriter } from "./cbor-writer";
import { joinTime, splitTime } from "./times";

/**
 * A name or path as a string of bytes: each character is one byte (0 to 255), as in Latin-1. So any name of a Unix file
 * system is held without loss, and string order is byte order.
 */
export type ByteString = string;

/** An id as a string of bytes: the key of maps and sets. */
export const idKey = (id: Uint8Array): ByteString =>
  Buffer.from(id.buffer, id.byteOffset, id.byteLength).toString("latin1");

export type EntryType = "file" | "folder" | "link";

/** One entry of a folder node. Times are nanoseconds since 1970. */
export interface Entry {
  readonly name: ByteString;
  readonly type: EntryType;
  /** Permission bits with set-id and sticky bits (`st_mode & 0o7777`). */
  readonly mode: number;
  readonly uid: number;
  readonly gid: number;
  readonly mtime: bigint;
  /** For telling unchanged files; left out when the file was too fresh to trust the clock's grain. */
  readonly ctime?: bigint | undefined;
  readonly inode?: bigint | undefined;
  readonly xattrs?: readonly (readonly [ByteString, Uint8Array])[] | undefined;
  /** Files: length in bytes, holes included. */
  readonly size?: number | undefined;
  /** Files: ids of the chunks, one after another. */
  readonly chunks?: Uint8Array | undefined;
  /** Files with very many chunks: ids of nodes that hold the list. */
  readonly chunkPages?: Uint8Array | undefined;
  /** Files with holes: `[offset, length]` of what has data; the chunks hold these ranges one after another. */
  readonly extents?: readonly (readonly [number, number])[] | undefined;
  /**
   * Disks: the size of every chunk but the last of the disk, bytes; extents begin and end at multiples of it, so where an
   * offset lies is known without reading.
   */
  readonly chunkBytes?: number | undefined;
  /** Files with several names: device and inode; equal within a point means the same file. */
  readonly sameFile?: string | undefined;
  /** Files whose first bytes look random. */
  readonly dense?: boolean | undefined;
  /** Links: where they point. */
  readonly target?: ByteString | undefined;
  /** Folders: id of the node. */
  readonly node?: Uint8Array | undefined;
}

type CborMap = Record<string, unknown>;
const TYPE_LETTER: Record<EntryType, string> = { file: "f", folder: "d", link: "l" };
const LETTER_TYPE: Record<string, EntryType> = { f: "file", d: "folder", l: "link" };

const bytesOf = (text: ByteString): Buffer => Buffer.from(text, "latin1");
const textOf = (bytes: Uint8Array): ByteString =>
  Buffer.from(bytes.buffer, bytes.byteOffset, bytes.byteLength).toString("latin1");
const cbor = new CborWriter();
function writeTime(time: bigint): void {
  const [seconds, nanoseconds] = splitTime(time);
  cbor.array(2);
  cbor.number(seconds);
  cbor.number(nanoseconds);
}

function writeEntry(entry: Entry): void {
  const {
    ctime,
    inode,
    xattrs,
    size,
    chunks,
    chunkPages,
    extents,
    chunkBytes,
    sameFile,
    dense,
    target,
    node,
  } = entry;
  const has = (there: unknown) => Number(there !== undefined);
  cbor.map(
    6 +
      has(ctime) +
      has(inode) +
      Number(xattrs !== undefined && xattrs.length > 0) +
      has(size) +
      has(chunks) +
      has(chunkPages) +
      has(extents) +
      has(chunkBytes) +
      has(sameFile) +
      Number(dense === true) +
      has(target) +
      has(node),
  );
  cbor.key("n");
  cbor.latin1(entry.name);
  cbor.key("t");
  cbor.key(TYPE_LETTER[entry.type]);
  cbor.key("m");
  cbor.number(entry.mode);
  cbor.key("u");
  cbor.number(entry.uid);
  cbor.key("g");
  cbor.number(entry.gid);
  cbor.key("mt");
  writeTime(entry.mtime);
  if (ctime !== undefined) {
    cbor.key("ct");
    writeTime(ctime);
  }
  if (inode !== undefined) {
    cbor.key("i");
    if (inode <= BigInt(Number.MAX_SAFE_INTEGER)) cbor.number(Number(inode));
    else cbor.other(inode);
  }
  if (xattrs?.length) {
    cbor.key("x");
    cbor.other(xattrs.map(([name, value]) => [bytesOf(name), value]));
  }
  if (size !== undefined) {
    cbor.key("z");
    cbor.number(size);
  }
  if (chunks !== undefined) {
    cbor.key("c");
    cbor.bytes(chunks);
  }
  if (chunkPages !== undefined) {
    cbor.key("r");
    cbor.bytes(chunkPages);
  }
  if (extents !== undefined) {
    cbor.key("e");
    cbor.other(extents);
  }
  if (chunkBytes !== undefined) {
    cbor.key("b");
    cbor.number(chunkBytes);
  }
  if (sameFile !== undefined) {
    cbor.key("h");
    cbor.other(sameFile);
  }
  if (dense) {
    cbor.key("y");
    cbor.number(1);
  }
  if (target !== undefined) {
    cbor.key("l");
    cbor.latin1(target);
  }
  if (node !== undefined) {
    cbor.key("s");
    cbor.bytes(node);
  }
}

/** A name that a file can have: a writer that was taken over must not reach outside a restore's destination. */
export function checkedName(name: ByteString): ByteString {
  if (name === "" || name === "." || name === ".." || name.includes("/") || name.includes("\0")) {
    throw new CodedError(
      "store.damaged",
      `an entry has the name ${JSON.stringify(name)}, which no file can have`,
    );
  }
  return name;
}

export function checkedType(letter: string): EntryType {
  const type = LETTER_TYPE[letter];
  if (!type) throw new CodedError("depot.newer", `an entry of the unknown type ${JSON.stringify(letter)}`);
  return type;
}

/** An entry as the decoder gives it. */
function entryFromCbor(map: CborMap): Entry {
  return {
    name: checkedName(textOf(map.n as Uint8Array)),
    type: checkedType(map.t as string),
    mode: map.m as number,
    uid: map.u as number,
    gid: map.g as number,
    mtime: joinTime(...(map.mt as [number, number])),
    ctime: map.ct ? joinTime(...(map.ct as [number, number])) : undefined,
    inode: map.i === undefined ? undefined : BigInt(map.i as number | bigint),
    xattrs: (map.x as [Uint8Array, Uint8Array][] | undefined)?.map(
      ([key, value]) => [textOf(key), value] as const,
    ),
    size: map.z as number | undefined,
    chunks: map.c as Uint8Array | undefined,
    chunkPages: map.r as Uint8Array | undefined,
    extents: map.e as [number, number][] | undefined,
    chunkBytes: map.b as number | undefined,
    sameFile: map.h as string | undefined,
    dense: map.y === 1 || undefined,
    target: map.l === undefined ? undefined : textOf(map.l as Uint8Array),
    node: map.s as Uint8Array | undefined,
  };
}

export function readTime(from: CborReader): bigint {
  if (from.array() !== 2) throw new UnknownCbor();
  return joinTime(from.number(), from.number());
}

/** As many values as an array has, each of them an array of two. */
function readPairs<T>(from: CborReader, read: () => T): T[] {
  const pairs: T[] = [];
  // a count that is not true ends with the bytes
  for (let left = from.array(); left > 0; left -= 1) {
    if (from.array() !== 2) throw new UnknownCbor();
    pairs.push(read());
  }
  return pairs;
}

/** An entry as `encodeEntry` writes it, read straight from the bytes. */
function readEntry(from: CborReader): Entry {
  let name: ByteString | undefined;
  let type: EntryType | undefined;
  let [mode, uid, gid] = [0, 0, 0];
  let mtime: bigint | undefined;
  let ctime: Entry["ctime"];
  let inode: Entry["inode"];
  let xattrs: Entry["xattrs"];
  let size: Entry["size"];
  let chunks: Entry["chunks"];
  let chunkPages: Entry["chunkPages"];
  let extents: Entry["extents"];
  let chunkBytes: Entry["chunkBytes"];
  let sameFile: Entry["sameFile"];
  let dense: Entry["dense"];
  let target: Entry["target"];
  let node: Entry["node"];
  for (let left = from.map(); left > 0; left -= 1)
    switch (from.key()) {
      case "n":
        name = checkedName(from.latin1());
        break;
      case "t":
        type = checkedType(from.key());
        break;
      case "m":
        mode = from.number();
        break;
      case "u":
        uid = from.number();
        break;
      case "g":
        gid = from.number();
        break;
      case "mt":
        mtime = readTime(from);
        break;
      case "ct":
        ctime = readTime(from);
        break;
      case "i":
        inode = from.whole();
        break;
      case "x":
        xattrs = readPairs(from, () => [from.latin1(), from.bytes()] as const);
        break;
      case "z":
        size = from.number();
        break;
      case "c":
        chunks = from.bytes();
        break;
      case "r":
        chunkPages = from.bytes();
        break;
      case "e":
        extents = readPairs(from, () => [from.number(), from.number()] as const);
        break;
      case "b":
        chunkBytes = from.number();
        break;
      case "h":
        sameFile = from.text();
        break;
      case "y":
        dense = from.number() === 1 || undefined;
        break;
      case "l":
        target = from.latin1();
        break;
      case "s":
        node = from.bytes();
        break;
      default:
        throw new UnknownCbor();
    }
  if (name === undefined || type === undefined || mtime === undefined) throw new UnknownCbor();
  return {
    name,
    type,
    mode,
    uid,
    gid,
    mtime,
    ctime,
    inode,
    xattrs,
    size,
    chunks,
    chunkPages,
    extents,
    chunkBytes,
    sameFile,
    dense,
    target,
    node,
  };
}

/** How many entries a folder's node has as `encodeFolder` writes it, which follow then; -1 for any other. */
export function readFolderHead(from: CborReader): number {
  if (from.map() !== 2 || from.key() !== "k" || from.key() !== "f" || from.key() !== "e") return -1;
  return from.array();
}

/** The entries of a folder's node as `encodeFolder` writes it; null for any other. */
function readFolder(bytes: Buffer): Entry[] | null {
  const from = new CborReader(bytes);
  try {
    let left = readFolderHead(from);
    if (left < 0) return null;
    const entries: Entry[] = [];
    for (; left > 0; left -= 1) entries.push(readEntry(from));
    return from.ended ? entries : null;
  } catch (error) {
    if (error instanceof UnknownCbor) return null;
    throw error;
  }
}

/** A page of a large folder: its first name and its node. */
export interface FolderPage {
  readonly first: ByteString;
  readonly node: Uint8Array;
  readonly count: number;
}

export type TreeNode =
  | { readonly kind: "folder"; readonly entries: readonly Entry[] }
  | { readonly kind: "pages"; readonly pages: readonly FolderPage[] }
  | { readonly kind: "chunks"; readonly ids: Uint8Array };

function writeFolderHead(count: number): void {
  cbor.map(2);
  cbor.key("k");
  cbor.key("f");
  cbor.key("e");
  cbor.array(count);
}

export const encodeFolder = (entries: readonly Entry[]): Buffer =>
  cbor.written(() => {
    writeFolderHead(entries.length);
    for (const entry of entries) writeEntry(entry);
  });
/** An entry as it lies in its folder's node. */
export const encodeEntry = (entry: Entry): Buffer => cbor.written(() => writeEntry(entry));
/** The node of so many entries, of which the bytes are there, one after another. */
export const folderOf = (count: number, entries: Uint8Array): Buffer =>
  cbor.written(() => {
    writeFolderHead(count);
    cbor.raw(entries);
  });
export const encodePages = (pages: readonly FolderPage[]): Buffer =>
  cborEncoder.encode({ k: "p", p: pages.map((page) => [bytesOf(page.first), page.node, page.count]) });
export const encodeChunkPage = (ids: Uint8Array): Buffer => cborEncoder.encode({ k: "c", c: ids });

/** Decodes a node; entries with impossible names or unknown types are refused. */
export function decodeNode(bytes: Uint8Array): TreeNode {
  const entries = readFolder(Buffer.from(bytes.buffer, bytes.byteOffset, bytes.byteLength));
  if (entries) return { kind: "folder", entries };
  const map = cborDecoder.decode(bytes) as CborMap;
  switch (map.k) {
    case "f":
      return { kind: "folder", entries: (map.e as CborMap[]).map(entryFromCbor) };
    case "p":
      return {
        kind: "pages",
        pages: (map.p as [Uint8Array, Uint8Array, number][]).map(([first, node, count]) => ({
          first: textOf(first),
          node,
          count,
        })),
      };
    case "c":
      return { kind: "chunks", ids: map.c as Uint8Array };
    default:
      throw new CodedError("depot.newer", `a tree node of the unknown kind ${JSON.stringify(map.k)}`);
  }
}

const PLAIN = /^[\x20-\x7e]*$/;

/** A byte string for people: UTF-8 where it is, and `\xHH` for bytes that are not. */
export function showBytes(text: ByteString): string {
  if (PLAIN.test(text)) return text;
  const bytes = bytesOf(text);
  const decoded = bytes.toString("utf8");
  if (Buffer.from(decoded, "utf8").equals(bytes)) return decoded;
  let shown = "";
  for (let i = 0; i < bytes.length; ) {
    let length = 1;
    for (let size = 4; size > 1; size -= 1) {
      const part = bytes.subarray(i, i + size);
      if (
        part.length === size &&
        part[0]! >= 0xc2 &&
        !part.toString("utf8").includes("�") &&
        [...part.toString("utf8")].length === 1
      ) {
        length = size;
        break;
      }
    }
    const part = bytes.subarray(i, i + length);
    shown +=
      length > 1 || part[0]! < 0x80 ? part.toString("utf8") : `\\x${part[0]!.toString(16).padStart(2, "0")}`;
    i += length;
  }
  return shown;
}

/** The byte string of a text that people see or type, in UTF-8. */
export const byteString = (text: string): ByteString => Buffer.from(text, "utf8").toString("latin1");
