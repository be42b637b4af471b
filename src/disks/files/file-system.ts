import { CodedError } from "@/core/codes";

/** A part of a disk, bytes from its own begin on. */
export interface Volume {
  readonly size: number;
  /** Up to `length` bytes; fewer at the end. */
  read(offset: number, length: number): Promise<Buffer>;
}

export interface FsItem {
  readonly type: "file" | "folder" | "link" | "other";
  readonly size: number;
  /** Nanoseconds since 1970. */
  readonly mtime: bigint;
  readonly mode: number;
  readonly uid: number;
  readonly gid: number;
}

export interface FsName {
  /** Each character is one byte. */
  readonly name: string;
  /** Of the item; below 2^53. */
  readonly id: number;
}

/** A file system that is read only. Errors are CodedErrors `file.unreadable` that say what about it. */
export interface FileSystem {
  readonly root: number;
  item(id: number): Promise<FsItem>;
  /**
   * What a folder is known by, and by what it knows the folder that it is in: a tree of folders has no circles, and an image
   * that was tampered with may have.
   */
  folder(id: number): Promise<{ readonly self: number; readonly parent: number }>;
  /** What a folder contains, without `.` and `..`, in no order. */
  list(id: number): Promise<FsName[]>;
  /** Up to `length` bytes of a file; holes are zeros. */
  read(id: number, offset: number, length: number): Promise<Buffer>;
  /** Where a link points. */
  target(id: number): Promise<string>;
}

/** So many entries of one folder are read; a folder of an image that was tampered with may claim any number. */
export const MOST_ENTRIES = 200_000;
/** Bytes of one folder. */
export const MOST_FOLDER_BYTES = 64 * 1024 * 1024;
export const MOST_LINK_BYTES = 4096;

export const unreadable = (why: string): CodedError => new CodedError("file.unreadable", why);

/** Exactly so many bytes of a volume; a volume that ends earlier is damaged. */
export async function exactly(volume: Volume, offset: number, length: number): Promise<Buffer> {
  if (!Number.isSafeInteger(offset) || offset < 0 || offset + length > volume.size)
    throw unreadable(`the file system points past the end of its partition (${offset})`);
  const bytes = await volume.read(offset, length);
  if (bytes.length !== length) throw unreadable("the partition ends early");
  return bytes;
}

/** A stretch of a file's content: where it is on the volume; null for zeros. All in bytes. */
export interface Stretch {
  readonly at: number;
  readonly length: number;
  readonly place: number | null;
}

/** Content from stretches in order; what none covers is zeros. */
export async function fromStretches(
  volume: Volume,
  stretches: readonly Stretch[],
  offset: number,
  length: number,
): Promise<Buffer> {
  const into = Buffer.alloc(length);
  for (const { at, length: has, place } of stretches) {
    const from = Math.max(at, offset);
    const to = Math.min(at + has, offset + length);
    if (place === null || to <= from) continue;
    (await exactly(volume, place + from - at, to - from)).copy(into, from - offset);
  }
  return into;
}
