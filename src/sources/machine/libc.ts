import { constants as fileFlags } from "node:fs";
import { constants } from "node:os";
import koffi from "koffi";
import { joinTime, splitTime } from "@/store/tree/times";
import type { ByteString } from "@/store/tree/tree";
import { FolderNames } from "./folder-names";

/**
 * The few calls of the C library that Node lacks, or takes long for: what a file is (a third of the time, and little to
 * collect), times to the nanosecond, extended attributes, holes. Paths are bytes without a final NUL. Failures throw an
 * Error with `code` (`ENOTSUP`, …) as Node's own calls do.
 */
const libc = koffi.load("libc.so.6");
const utimensatCall = libc.func(
  "int utimensat(int dir, const uint8_t *path, const uint8_t *times, int flags)",
);
const futimensCall = libc.func("int futimens(int fd, const uint8_t *times)");
const statxCall = libc.func("int statx(int dir, const uint8_t *path, int flags, uint32 mask, uint8_t *stat)");
const lseekCall = libc.func("int64 lseek(int fd, int64 offset, int whence)");
const llistxattrCall = libc.func("int64 llistxattr(const uint8_t *path, uint8_t *list, uint64 size)");
const lgetxattrCall = libc.func(
  "int64 lgetxattr(const uint8_t *path, const uint8_t *name, uint8_t *value, uint64 size)",
);
const flistxattrCall = libc.func("int64 flistxattr(int fd, uint8_t *list, uint64 size)");
const fgetxattrCall = libc.func("int64 fgetxattr(int fd, const uint8_t *name, uint8_t *value, uint64 size)");
const lsetxattrCall = libc.func(
  "int lsetxattr(const uint8_t *path, const uint8_t *name, const uint8_t *value, uint64 size, int flags)",
);

const fsetxattrCall = libc.func(
  "int fsetxattr(int fd, const uint8_t *name, const uint8_t *value, uint64 size, int flags)",
);
const openatCall = libc.func("int openat(int dir, const uint8_t *path, int flags, uint32 mode)");
const closeCall = libc.func("int close(int fd)");
const getdentsCall = libc.func("int64 getdents64(int fd, uint8_t *entries, uint64 size)");
const unlinkatCall = libc.func("int unlinkat(int dir, const uint8_t *path, int flags)");

const O_CLOEXEC = 0o2000000;
const AT_FDCWD = -100;
const AT_SYMLINK_NOFOLLOW = 0x100;
const AT_NO_AUTOMOUNT = 0x800;
const AT_EMPTY_PATH = 0x1000;
const STATX_BASIC_STATS = 0x7ff;
const SEEK_DATA = 3;
const SEEK_HOLE = 4;
const NUL = Buffer.alloc(1);

const errnoNames = new Map(Object.entries(constants.errno).map(([name, number]) => [number, name]));

function failed(call: string): Error {
  const code = errnoNames.get(koffi.errno()) ?? `errno ${koffi.errno()}`;
  return Object.assign(new Error(`${call}: ${code}`), { code });
}

const terminated = (bytes: Uint8Array): Buffer => Buffer.concat([bytes, NUL]);

/** Two `struct timespec` of 64 bits each for seconds and nanoseconds: of the last use, and of the last change. */
const times = Buffer.alloc(32);
const timeHalves = new Uint32Array(times.buffer, times.byteOffset, 8);
function timesOf(mtime: bigint): Buffer {
  const [seconds, nanoseconds] = splitTime(mtime);
  for (const at of [0, 4]) {
    timeHalves[at] = seconds;
    timeHalves[at + 1] = Math.floor(seconds / 2 ** 32);
    timeHalves[at + 2] = nanoseconds;
  }
  return times;
}

/** Sets the time of last change of a file, folder or link itself, in nanoseconds since 1970. */
export function setMtime(path: Uint8Array, mtime: bigint): void {
  if (utimensatCall(AT_FDCWD, terminated(path), timesOf(mtime), AT_SYMLINK_NOFOLLOW) !== 0)
    throw failed("utimensat");
}

/** The same for an open file. */
export function setMtimeOpen(fd: number, mtime: bigint): void {
  if (futimensCall(fd, timesOf(mtime)) !== 0) throw failed("futimens");
}

/** What `statx` tells. Times are nanoseconds since 1970. */
export interface Stats {
  /** `st_mode`: type and permission bits. */
  readonly mode: number;
  readonly links: number;
  readonly uid: number;
  readonly gid: number;
  readonly inode: bigint;
  readonly size: number;
  /** Bytes that it takes on the disk. */
  readonly allocated: number;
  readonly mtime: bigint;
  readonly ctime: bigint;
  readonly deviceMajor: number;
  readonly deviceMinor: number;
}

/** Room for a `struct statx`, of which the words below are read. */
const stat = Buffer.alloc(256);
const words = new BigInt64Array(stat.buffer, stat.byteOffset, 32);
const halves = new Uint32Array(stat.buffer, stat.byteOffset, 64);

/** Number of the device as `st_dev` has it. */
export const deviceOf = ({ deviceMajor: major, deviceMinor: minor }: Stats): bigint =>
  (BigInt(major & 0xfffff000) << 32n) |
  (BigInt(minor & 0xffffff00) << 12n) |
  BigInt(((major & 0xfff) << 8) | (minor & 0xff));

/** Numbers of 64 bits that begin at such a word of 32 bits. */
const countAt = (at: number): number => halves[at + 1]! * 2 ** 32 + halves[at]!;
const secondsAt = (at: number): number => (halves[at + 1]! | 0) * 2 ** 32 + halves[at]!;
const timeAt = (at: number): bigint => joinTime(secondsAt(at), halves[at + 2]!);

function told(): Stats {
  return {
    mode: halves[7]! & 0xffff,
    links: halves[4]!,
    uid: halves[5]!,
    gid: halves[6]!,
    inode: BigInt.asUintN(64, words[4]!),
    size: countAt(10),
    allocated: countAt(12) * 512,
    mtime: timeAt(28),
    ctime: timeAt(24),
    deviceMajor: halves[34]!,
    deviceMinor: halves[35]!,
  };
}

const STATX_MODE_AND_OWNER = 0x2 | 0x8 | 0x10;

/** Who owns an open file, and its permission bits with set-id and sticky bits: little beside what changing them takes. */
export function ownerAndMode(fd: number): Pick<Stats, "uid" | "gid" | "mode"> {
  if (statxCall(fd, NUL, AT_EMPTY_PATH, STATX_MODE_AND_OWNER, stat) !== 0) throw failed("statx");
  return { uid: halves[5]!, gid: halves[6]!, mode: halves[7]! & 0o7777 };
}

const pathRoom = Buffer.alloc(8192);

/** A path with its NUL, in memory that the next call uses again. */
function terminatedText(path: ByteString): Uint8Array {
  if (path.length >= pathRoom.length) return Buffer.from(`${path}\0`, "latin1");
  pathRoom[pathRoom.write(path, "latin1")] = 0;
  return pathRoom;
}

function lookedAtInto(folder: number, path: ByteString): void {
  const flags = AT_SYMLINK_NOFOLLOW | AT_NO_AUTOMOUNT;
  if (statxCall(folder, terminatedText(path), flags, STATX_BASIC_STATS, stat) !== 0) throw failed("statx");
}

function lookedAt(folder: number, path: ByteString): Stats {
  lookedAtInto(folder, path);
  return told();
}

/** Which words of a `struct statx` `told` reads. */
const WORDS_TOLD = [7, 4, 5, 6, 8, 9, 10, 11, 12, 13, 24, 25, 26, 28, 29, 30, 34, 35];
export const STAT_WORDS = WORDS_TOLD.length;

/** What `OpenFolder.lookInto` noted at a place, in another thread say. */
export function statsAt(from: Uint32Array, at: number): Stats {
  for (let i = 0; i < STAT_WORDS; i += 1) halves[WORDS_TOLD[i]!] = from[at + i]!;
  return told();
}

/** A file, folder or link itself. */
export const statsOf = (path: ByteString): Stats => lookedAt(AT_FDCWD, path);

/** Room for a part of what a folder holds: `struct linux_dirent64`, one after another. */
const listing = Buffer.alloc(64 * 1024);
const DIRENT_LENGTH = 16;
const DIRENT_NAME = 19;

/**
 * A folder that is open. What is in it is looked at by its name alone: that saves the way to it for each file, and nobody can
 * put something else at a part of that way meanwhile.
 */
export class OpenFolder {
  private constructor(private readonly fd: number) {}

  /** A link in its place is followed only where `follow` says so; otherwise it is no folder. */
  static open(path: ByteString, follow: boolean): OpenFolder {
    const flags =
      fileFlags.O_RDONLY | fileFlags.O_DIRECTORY | O_CLOEXEC | (follow ? 0 : fileFlags.O_NOFOLLOW);
    const fd = openatCall(AT_FDCWD, terminatedText(path), flags, 0);
    if (fd < 0) throw failed("openat");
    return new OpenFolder(fd);
  }

  /** What is in it; of more than `most` some of it. */
  names(most = Number.POSITIVE_INFINITY): FolderNames {
    const names = new FolderNames();
    for (;;) {
      const filled = Number(getdentsCall(this.fd, listing, listing.length));
      if (filled < 0) throw failed("getdents64");
      if (filled === 0 || names.count > most) return names;
      for (let at = 0; at < filled; at += listing.readUInt16LE(at + DIRENT_LENGTH)) {
        const begin = at + DIRENT_NAME;
        let end = begin + 1;
        while (listing[end] !== 0) end += 1;
        const name = listing.toString("latin1", begin, end);
        if (name !== "." && name !== "..") names.add(name);
      }
    }
  }

  look(name: ByteString): Stats {
    return lookedAt(this.fd, name);
  }

  /** Looks, and notes what it was told at a place of some memory, as `statsAt` reads it. Gives `st_mode`. */
  lookInto(name: ByteString, into: Uint32Array, at: number): number {
    lookedAtInto(this.fd, name);
    for (let i = 0; i < STAT_WORDS; i += 1) into[at + i] = halves[WORDS_TOLD[i]!]!;
    return halves[7]! & 0xffff;
  }

  close(): void {
    closeCall(this.fd);
  }
}

/** What tells of an open file whether its content is what it was: in numbers, since it is asked twice of each. */
export interface ContentStats {
  /** `st_mode`: type and permission bits. */
  readonly mode: number;
  readonly size: number;
  /** Bytes that it takes on the disk. */
  readonly allocated: number;
  /** Time of its last change. */
  readonly seconds: number;
  readonly nanoseconds: number;
}

export function contentStats(fd: number): ContentStats {
  if (statxCall(fd, NUL, AT_EMPTY_PATH, STATX_BASIC_STATS, stat) !== 0) throw failed("statx");
  return {
    mode: halves[7]! & 0xffff,
    size: countAt(10),
    allocated: countAt(12) * 512,
    seconds: secondsAt(28),
    nanoseconds: halves[30]!,
  };
}

/** Ranges of an open file that have data. A file system that cannot tell gives one range. */
export function dataRanges(fd: number, size: number): [number, number][] {
  const ranges: [number, number][] = [];
  for (let at = 0; at < size; ) {
    const start = Number(lseekCall(fd, at, SEEK_DATA));
    if (start < 0) {
      if (koffi.errno() === constants.errno.ENXIO) break;
      return [[0, size]];
    }
    if (start >= size) break;
    const end = Math.min(size, Number(lseekCall(fd, start, SEEK_HOLE)));
    ranges.push([start, end - start]);
    at = end;
  }
  return ranges;
}

const list = Buffer.alloc(64 * 1024);
const value = Buffer.alloc(64 * 1024);

/** Extended attributes by how they are listed and got; none where the file system has none. */
function attributes(length: number, get: (name: Uint8Array) => number | bigint): [string, Buffer][] {
  if (length <= 0) return [];
  const names = list
    .toString("latin1", 0, length - 1)
    .split("\0")
    .sort();
  const found: [string, Buffer][] = [];
  for (const name of names) {
    const size = Number(get(Buffer.from(`${name}\0`, "latin1")));
    if (size >= 0) found.push([name, Buffer.from(value.subarray(0, size))]);
  }
  return found;
}

/** Extended attributes of a path itself. */
export function readXattrs(path: Uint8Array): [string, Buffer][] {
  const bytes = terminated(path);
  return attributes(Number(llistxattrCall(bytes, list, list.length)), (name) =>
    lgetxattrCall(bytes, name, value, value.length),
  );
}

/** The same of what is open. */
export const readXattrsOpen = (fd: number): [string, Buffer][] =>
  attributes(Number(flistxattrCall(fd, list, list.length)), (name) =>
    fgetxattrCall(fd, name, value, value.length),
  );

const nameOf = (name: string): Buffer => Buffer.from(`${name}\0`, "latin1");

/** Sets an extended attribute of a path itself. */
export function writeXattr(path: Uint8Array, name: string, content: Uint8Array): void {
  const value = content.length ? Buffer.from(content) : NUL;
  if (lsetxattrCall(terminated(path), nameOf(name), value, content.length, 0) !== 0)
    throw failed(`lsetxattr ${name}`);
}

/** The same of what is open. */
export function writeXattrOpen(fd: number, name: string, content: Uint8Array): void {
  const value = content.length ? Buffer.from(content) : NUL;
  if (fsetxattrCall(fd, nameOf(name), value, content.length, 0) !== 0) throw failed(`fsetxattr ${name}`);
}

const NEW_FILE = fileFlags.O_CREAT | fileFlags.O_EXCL | fileFlags.O_WRONLY | fileFlags.O_NOFOLLOW | O_CLOEXEC;

/** Makes a file that must be new in an open folder, to be written; null where that cannot be. */
export function makeAt(folder: number, name: ByteString, mode: number): number | null {
  const fd = openatCall(folder, terminatedText(name), NEW_FILE, mode);
  return fd < 0 ? null : fd;
}

/** Takes a file out of an open folder, where it is. */
export function unlinkAt(folder: number, name: ByteString): void {
  unlinkatCall(folder, terminatedText(name), 0);
}

/** Closes what Node has not opened itself: it would warn of that. */
export function closeOpened(fd: number): void {
  closeCall(fd);
}
