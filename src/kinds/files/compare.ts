import {
  chmodSync,
  closeSync,
  constants,
  fstatSync,
  lstatSync,
  openSync,
  readlinkSync,
  readSync,
} from "node:fs";
import { Blake3Hasher } from "@napi-rs/blake-hash";
import { joinPath, systemPath } from "@/sources/machine/paths";
import { NOBODY_SAID } from "@/sources/reader";
import { chunksOf, type Walked } from "@/store/read/browse";
import type { ChunkReader } from "@/store/read/reader";
import type { Identifier } from "@/store/seal/identity";
import { type ByteString, byteString, type Entry, idKey, showBytes } from "@/store/tree/tree";

export interface CompareOptions {
  readonly store: ChunkReader;
  /** Computes the ids of chunks as they were computed when the source was read. */
  readonly chunkIds: Identifier;
  /** The folder on this machine that holds what was restored. */
  readonly folder: string;
  /** Whether owners could be set, and count. */
  readonly owners: boolean;
  /** Told of each entry that is not as it was. */
  readonly differs: (path: string, how: string) => void;
  /** Told of each file that is as it was, with the BLAKE3 of its content in hex. */
  readonly same: (path: string, bytes: number, digest: string) => void;
  readonly signal: AbortSignal;
}

export interface Compared {
  files: number;
  bytes: number;
  /** BLAKE3 of the list of the files that are as they were: `digest  path`, a line each. */
  evidence: string;
}

/**
 * Holds what lies on the disk against the entries that it was restored from: type, size, rights, time, target, and the
 * content, read from the disk and its chunks named anew. Nothing of the content comes from the store here: only the names
 * that it got when the source was read.
 */
export async function compareWithDisk(
  entries: AsyncIterable<Walked> | Iterable<Walked>,
  options: CompareOptions,
): Promise<Compared> {
  const base = byteString(options.folder);
  const list = new Blake3Hasher();
  const content = new Blake3Hasher();
  const compared: Compared = { files: 0, bytes: 0, evidence: "" };
  const root = process.getuid?.() === 0;
  for await (const { path, entry } of entries) {
    if (options.signal.aborted) throw options.signal.reason;
    const shown = showBytes(path);
    const disk = joinPath(base, path.slice(1));
    const found = differenceOf(entry, disk, options.owners);
    // to look into it, whoever is not root may have to give themselves the right that the restore took
    const needed = { folder: 0o700, file: 0o400, link: 0 }[entry.type];
    const closed = !root && found === null && (entry.mode & needed) !== needed;
    if (closed) chmodSync(systemPath(disk), entry.mode | needed);
    const how = found ?? (entry.type === "file" ? await contentDiffers(entry, disk, options, content) : null);
    // a file may have a second name, which comes later
    if (closed && entry.type === "file") chmodSync(systemPath(disk), entry.mode);
    if (how !== null) {
      options.differs(shown, how);
      continue;
    }
    if (entry.type !== "file") continue;
    const digest = content.digest("hex");
    list.update(Buffer.from(`${digest}  ${shown}\n`));
    compared.files += 1;
    compared.bytes += entry.size ?? 0;
    options.same(shown, entry.size ?? 0, digest);
  }
  compared.evidence = list.digest("hex");
  return compared;
}

/** How an entry itself is not as it was; null when it is. */
function differenceOf(entry: Entry, path: ByteString, owners: boolean): string | null {
  const there = lstatSync(systemPath(path), { bigint: true, throwIfNoEntry: false });
  if (!there) return "it is not there";
  const type = there.isDirectory()
    ? "folder"
    : there.isSymbolicLink()
      ? "link"
      : there.isFile()
        ? "file"
        : "other";
  if (type !== entry.type) return `it is a ${type} and was a ${entry.type}`;
  if (type === "file" && there.size !== BigInt(entry.size ?? 0))
    return `it has ${there.size} bytes and had ${entry.size ?? 0}`;
  if (type === "link" && readlinkSync(systemPath(path), "latin1") !== entry.target)
    return "it points elsewhere";
  if (type !== "link" && (Number(there.mode) & 0o7777) !== entry.mode)
    return `its rights are ${(Number(there.mode) & 0o7777).toString(8)} and were ${entry.mode.toString(8)}`;
  if (there.mtimeNs !== entry.mtime) return "its time of change is another one";
  const other = (is: bigint, was: number) => was !== NOBODY_SAID && Number(is) !== was;
  if (owners && (other(there.uid, entry.uid) || other(there.gid, entry.gid)))
    return "it belongs to somebody else";
  return null;
}

/** Reads a file chunk by chunk; how its content is not as it was, or null. The plain hash of all of it is in `content`. */
async function contentDiffers(
  entry: Entry,
  path: ByteString,
  { store, chunkIds, signal }: CompareOptions,
  content: Blake3Hasher,
): Promise<string | null> {
  content.reset();
  const fd = openSync(systemPath(path), constants.O_RDONLY | constants.O_NOFOLLOW);
  try {
    const size = fstatSync(fd).size;
    const extents = entry.extents ?? [[0, size] as const];
    let place = 0;
    let [offset, left] = extents[0] ?? [0, 0];
    let hashed = 0;
    const zerosUpTo = (end: number) => {
      for (; hashed < end; hashed += Math.min(ZEROS.length, end - hashed))
        content.update(ZEROS.subarray(0, Math.min(ZEROS.length, end - hashed)));
    };
    for await (const id of chunksOf(store, entry)) {
      if (signal.aborted) throw signal.reason;
      const chunk = Buffer.alloc(await store.length(id));
      for (let done = 0; done < chunk.length; ) {
        while (left === 0 && place + 1 < extents.length) {
          place += 1;
          [offset, left] = extents[place]!;
        }
        const wanted = Math.min(left, chunk.length - done);
        const read = wanted === 0 ? 0 : readSync(fd, chunk, done, wanted, offset);
        if (read === 0) return `it ends after ${offset} bytes`;
        zerosUpTo(offset);
        content.update(chunk.subarray(done, done + read));
        hashed = offset + read;
        offset += read;
        left -= read;
        done += read;
      }
      if (idKey(chunkIds.id(chunk)) !== idKey(id)) return "its content is another one";
    }
    zerosUpTo(size);
    return null;
  } finally {
    closeSync(fd);
  }
}

const ZEROS = Buffer.alloc(64 * 1024);
