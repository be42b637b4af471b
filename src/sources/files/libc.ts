import { constants } from "node:os";
import koffi from "koffi";

/**
 * The few calls of the C library that Node lacks: times to the nanosecond, extended attributes, holes. Paths are bytes
 * without a final NUL. Failures throw an Error with `code` (`ENOTSUP`, …) as Node's own calls do.
 */
const libc = koffi.load("libc.so.6");
const utimensatCall = libc.func(
  "int utimensat(int dir, const uint8_t *path, const uint8_t *times, int flags)",
);
const futimensCall = libc.func("int futimens(int fd, const uint8_t *times)");
const lseekCall = libc.func("int64 lseek(int fd, int64 offset, int whence)");
const llistxattrCall = libc.func("int64 llistxattr(const uint8_t *path, _Out_ uint8_t *list, uint64 size)");
const lgetxattrCall = libc.func(
  "int64 lgetxattr(const uint8_t *path, const uint8_t *name, _Out_ uint8_t *value, uint64 size)",
);
const lsetxattrCall = libc.func(
  "int lsetxattr(const uint8_t *path, const uint8_t *name, const uint8_t *value, uint64 size, int flags)",
);

const AT_FDCWD = -100;
const AT_SYMLINK_NOFOLLOW = 0x100;
const SEEK_DATA = 3;
const SEEK_HOLE = 4;
const BILLION = 1_000_000_000n;
const NUL = Buffer.alloc(1);

const errnoNames = new Map(Object.entries(constants.errno).map(([name, number]) => [number, name]));

function failed(call: string): Error {
  const code = errnoNames.get(koffi.errno()) ?? `errno ${koffi.errno()}`;
  return Object.assign(new Error(`${call}: ${code}`), { code });
}

const terminated = (bytes: Uint8Array): Buffer => Buffer.concat([bytes, NUL]);

/** Two `struct timespec` of 64 bits each for seconds and nanoseconds: of the last use, and of the last change. */
const times = Buffer.alloc(32);
function timesOf(mtime: bigint): Buffer {
  const nanoseconds = ((mtime % BILLION) + BILLION) % BILLION;
  const words = new BigInt64Array(times.buffer, times.byteOffset, 4);
  words[0] = (mtime - nanoseconds) / BILLION;
  words[1] = nanoseconds;
  words[2] = words[0];
  words[3] = nanoseconds;
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

/** Extended attributes of a path itself; none where the file system has none. */
export function readXattrs(path: Uint8Array): [string, Buffer][] {
  const bytes = terminated(path);
  const length = Number(llistxattrCall(bytes, list, list.length));
  if (length <= 0) return [];
  const names = list
    .toString("latin1", 0, length - 1)
    .split("\0")
    .sort();
  const found: [string, Buffer][] = [];
  for (const name of names) {
    const size = Number(lgetxattrCall(bytes, Buffer.from(`${name}\0`, "latin1"), value, value.length));
    if (size >= 0) found.push([name, Buffer.from(value.subarray(0, size))]);
  }
  return found;
}

export function writeXattr(path: Uint8Array, name: string, content: Uint8Array): void {
  const result = lsetxattrCall(
    terminated(path),
    Buffer.from(`${name}\0`, "latin1"),
    content.length ? Buffer.from(content) : NUL,
    content.length,
    0,
  );
  if (result !== 0) throw failed(`lsetxattr ${name}`);
}
