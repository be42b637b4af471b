import type { Entry } from "@/store/tree/tree";

/** TAR headers: ustar and pax extended headers (POSIX.1-2001, `pax`), with GNU's sparse format 1.0 inside pax. */

export const TAR_BLOCK = 512;
/** A TAR ends with two blocks that are empty. */
export const TAR_END = 2 * TAR_BLOCK;
export const padded = (bytes: number): number => Math.ceil(bytes / TAR_BLOCK) * TAR_BLOCK;

const TYPES = { file: "0", hard: "1", link: "2", folder: "5" } as const;
const OCTAL_12 = 8 ** 11 - 1;
const OCTAL_8 = 8 ** 7 - 1;

/** What a member holds: bytes of content, or nothing. */
export interface TarMember {
  /** The name's bytes, `/`-separated, without one at the end. */
  readonly name: Buffer;
  readonly entry: Entry;
  /** The member that the same file has already, for a hard link. */
  readonly sameAs?: Buffer | undefined;
}

/** Ranges of a file with holes, `[offset, length]`, ended by its size; null for a file without. */
export function sparseMap(entry: Entry): readonly (readonly [number, number])[] | null {
  if (entry.type !== "file" || !entry.extents) return null;
  const size = entry.size ?? 0;
  const last = entry.extents.at(-1);
  return last && last[0] + last[1] === size ? entry.extents : [...entry.extents, [size, 0]];
}

/** The map that stands before the content of a sparse file. */
function mapBytes(map: readonly (readonly [number, number])[]): Buffer {
  const text = [map.length, ...map.flat()].map((number) => `${number}\n`).join("");
  const bytes = Buffer.alloc(padded(text.length));
  bytes.write(text, "ascii");
  return bytes;
}

/** Bytes of content that a member has in the archive, before padding. */
export function contentLength({ entry, sameAs }: TarMember): number {
  if (entry.type !== "file" || sameAs) return 0;
  const map = sparseMap(entry);
  return map ? map.reduce((sum, [, length]) => sum + length, 0) : (entry.size ?? 0);
}

/** What stands before the content of a member: its headers, and of a sparse file its map. */
export function tarHeader(member: TarMember): Buffer {
  const { entry, sameAs } = member;
  const type = sameAs ? "hard" : entry.type;
  const name = type === "folder" ? Buffer.concat([member.name, Buffer.from("/")]) : member.name;
  const target = sameAs ?? (type === "link" ? Buffer.from(entry.target ?? "", "latin1") : Buffer.alloc(0));
  const map = sameAs ? null : sparseMap(entry);
  const before = map ? mapBytes(map) : Buffer.alloc(0);
  const size = contentLength(member) + before.length;
  const seconds = floorDivide(entry.mtime, 1_000_000_000n);
  const nanoseconds = entry.mtime - seconds * 1_000_000_000n;
  const pax = new PaxRecords();
  if (map) {
    pax.add("GNU.sparse.major", "1");
    pax.add("GNU.sparse.minor", "0");
    pax.addBytes("GNU.sparse.name", name);
    pax.add("GNU.sparse.realsize", String(entry.size ?? 0));
  } else if (name.length > 100) pax.addBytes("path", name);
  if (target.length > 100) pax.addBytes("linkpath", target);
  if (size > OCTAL_12) pax.add("size", String(size));
  // −1, as a system without owners says, is the last of their numbers
  const [uid, gid] = [entry.uid, entry.gid].map((id) => (id < 0 ? 2 ** 32 + id : id)) as [number, number];
  if (uid > OCTAL_8) pax.add("uid", String(uid));
  if (gid > OCTAL_8) pax.add("gid", String(gid));
  if (seconds < 0n || seconds > BigInt(OCTAL_12) || nanoseconds > 0n)
    pax.add("mtime", decimal(seconds, nanoseconds));
  for (const text of [name, target]) if (!isUtf8(text)) pax.binary = true;
  const plain = {
    name: map ? Buffer.from("GNUSparseFile.0/file") : name.subarray(0, 100),
    mode: entry.mode,
    uid: Math.min(uid, OCTAL_8),
    gid: Math.min(gid, OCTAL_8),
    size: Math.min(size, OCTAL_12),
    mtime: Number(seconds < 0n ? 0n : seconds > BigInt(OCTAL_12) ? BigInt(OCTAL_12) : seconds),
    type: TYPES[type],
    target: target.subarray(0, 100),
  };
  const records = pax.bytes();
  if (records.length === 0) return Buffer.concat([block(plain), before]);
  const extended = block({
    name: Buffer.from("PaxHeaders/file"),
    mode: 0o644,
    uid: 0,
    gid: 0,
    size: records.length,
    mtime: 0,
    type: "x",
    target: Buffer.alloc(0),
  });
  const filling = Buffer.alloc(padded(records.length) - records.length);
  return Buffer.concat([extended, records, filling, block(plain), before]);
}

const isUtf8 = (bytes: Buffer): boolean => Buffer.from(bytes.toString("utf8"), "utf8").equals(bytes);
const floorDivide = (a: bigint, b: bigint): bigint => a / b - (a % b < 0n ? 1n : 0n);

/** Seconds and nanoseconds as a decimal number; of a time before 1970 both count backwards. */
function decimal(seconds: bigint, nanoseconds: bigint): string {
  const all = seconds * 1_000_000_000n + nanoseconds;
  const size = all < 0n ? -all : all;
  const rest = String(size % 1_000_000_000n)
    .padStart(9, "0")
    .replace(/0+$/, "");
  return `${all < 0n ? "-" : ""}${size / 1_000_000_000n}${rest ? `.${rest}` : ""}`;
}

/** Records of a pax header: `LENGTH KEY=VALUE\n`, the length of all of it included. */
class PaxRecords {
  private readonly parts: Buffer[] = [];
  /** Values are bytes, and not UTF-8. */
  binary = false;

  add = (key: string, value: string): void => this.addBytes(key, Buffer.from(value, "utf8"));

  addBytes(key: string, value: Buffer): void {
    const rest = Buffer.concat([Buffer.from(` ${key}=`), value, Buffer.from("\n")]);
    let length = rest.length + 1;
    while (String(length).length + rest.length !== length) length = String(length).length + rest.length;
    this.parts.push(Buffer.concat([Buffer.from(String(length)), rest]));
  }

  bytes(): Buffer {
    if (this.parts.length === 0 || !this.binary) return Buffer.concat(this.parts);
    const first = new PaxRecords();
    first.add("hdrcharset", "BINARY");
    return Buffer.concat([first.bytes(), ...this.parts]);
  }
}

interface Fields {
  readonly name: Buffer;
  readonly mode: number;
  readonly uid: number;
  readonly gid: number;
  readonly size: number;
  readonly mtime: number;
  readonly type: string;
  readonly target: Buffer;
}

/** One ustar header. */
function block({ name, mode, uid, gid, size, mtime, type, target }: Fields): Buffer {
  const bytes = Buffer.alloc(TAR_BLOCK);
  name.copy(bytes, 0);
  const octal = (value: number, at: number, width: number) =>
    bytes.write(value.toString(8).padStart(width - 1, "0"), at, "ascii");
  octal(mode, 100, 8);
  octal(uid, 108, 8);
  octal(gid, 116, 8);
  octal(size, 124, 12);
  octal(mtime, 136, 12);
  bytes.write("        ", 148, "ascii");
  bytes.write(type, 156, "ascii");
  target.copy(bytes, 157);
  bytes.write("ustar\u000000", 257, "latin1");
  let sum = 0;
  for (const byte of bytes) sum += byte;
  bytes.write(`${sum.toString(8).padStart(6, "0")}\u0000 `, 148, "latin1");
  return bytes;
}
