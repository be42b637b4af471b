import {
  chmodSync,
  closeSync,
  constants,
  fchmodSync,
  fchownSync,
  lchownSync,
  openSync,
  writeSync,
} from "node:fs";
import { Blake3Hasher } from "@napi-rs/blake-hash";
import {
  closeOpened,
  makeAt,
  ownerAndMode,
  setMtime,
  setMtimeOpen,
  unlinkAt,
  writeXattr,
  writeXattrOpen,
} from "@/sources/machine/libc";
import { systemPath } from "@/sources/machine/paths";
import type { ByteString } from "@/store/tree/tree";

/** Writing files, and giving what was written its metadata; what goes wrong on the way is told, not thrown. */

/** What is set beside the content. */
export interface Metadata {
  readonly uid: number;
  readonly gid: number;
  readonly mode: number;
  /** Nanoseconds since 1970. */
  readonly mtime: bigint;
  readonly xattrs?: readonly (readonly [string, Uint8Array])[] | undefined;
}

/** What a new file has by itself: most have the owner that they should have, and finding that out takes less than setting it. */
type Made = Pick<Metadata, "uid" | "gid" | "mode">;

/** What could not be set: nobody else may own files for an account that is not the system's own. */
export interface MetadataLeft {
  readonly owner: string | null;
  readonly attributes: readonly string[];
}
const NOTHING_LEFT: MetadataLeft = { owner: null, attributes: [] };

const bytesOf = (path: ByteString): Buffer => Buffer.from(path, "latin1");

/** What a call failed with, in its words; null where it did not. */
function failureOf(call: () => void): string | null {
  try {
    call();
    return null;
  } catch (error) {
    return (error as Error).message;
  }
}

function leftOf(
  owner: string | null,
  xattrs: Metadata["xattrs"],
  set: (name: string, value: Uint8Array) => void,
): MetadataLeft {
  if (owner === null && !xattrs?.length) return NOTHING_LEFT;
  const failures = xattrs?.map(([name, value]) => failureOf(() => set(name, value))) ?? [];
  return { owner, attributes: failures.filter((failure) => failure !== null) };
}

/** Gives a folder or a link owner, rights, attributes and time. */
export function setMetadata(
  path: ByteString,
  { uid, gid, mode, mtime, xattrs }: Metadata,
  isLink = false,
): MetadataLeft {
  const owner = failureOf(() => lchownSync(systemPath(path), uid, gid));
  const left = leftOf(owner, xattrs, (name, value) => writeXattr(bytesOf(path), name, value));
  // after the owner: changing it clears set-id bits
  if (!isLink) chmodSync(systemPath(path), mode);
  setMtime(bytesOf(path), mtime);
  return left;
}

/** The same for an open file, its rights last, since those tell that it is whole. */
export function setMetadataOpen(
  fd: number,
  { uid, gid, mode, mtime, xattrs }: Metadata,
  made: Made = ownerAndMode(fd),
): MetadataLeft {
  const owned = made.uid === uid && made.gid === gid;
  const owner = owned ? null : failureOf(() => fchownSync(fd, uid, gid));
  const left = leftOf(owner, xattrs, (name, value) => writeXattrOpen(fd, name, value));
  setMtimeOpen(fd, mtime);
  if (!owned || made.mode !== mode) fchmodSync(fd, mode);
  return left;
}

/** Makes a file that must be new, for its owner alone until its metadata is set; never through a link. */
export const makeFile = (path: ByteString): number =>
  openSync(
    systemPath(path),
    constants.O_CREAT | constants.O_EXCL | constants.O_WRONLY | constants.O_NOFOLLOW,
    0o600,
  );

/** Writes all of some bytes at a place of an open file. */
export function writeAll(fd: number, bytes: Uint8Array, offset: number): void {
  for (let written = 0; written < bytes.length; )
    written += writeSync(fd, bytes, written, bytes.length - written, offset + written);
}

/** What was put, and where asked for the BLAKE3 of its content in hex. */
export type Put = MetadataLeft & { readonly digest: string | null };
export const wellPut = (digest: string | null): Put =>
  digest === null ? WELL_PUT : { ...NOTHING_LEFT, digest };
const WELL_PUT: Put = { ...NOTHING_LEFT, digest: null };

/** Makes a file with all of its content and its metadata. */
export function putFile(path: ByteString, content: Uint8Array, metadata: Metadata, digest: boolean): Put {
  const fd = makeFile(path);
  try {
    return putInto(fd, content, metadata, digest);
  } finally {
    closeSync(fd);
  }
}

/** Rights of a file that is not whole yet: nobody can read what it has so far, but those who may read everything. */
export const UNFINISHED_MODE = 0o200;

/** Whether something at a name is what a program left that died while it put a file there. */
export const isUnfinished = (there: { readonly mode: number | bigint } | undefined): boolean =>
  there !== undefined && Number(there.mode) === (constants.S_IFREG | UNFINISHED_MODE);

/**
 * Folders that nobody but this program puts files into. Each file has its name at once, since giving it one later takes half
 * as long again, and nobody can read it before it is whole. The last folder is kept open; close them when all is put.
 */
export class OwnFolders {
  private path: ByteString | null = null;
  /** Null where the folder cannot be opened. */
  private fd: number | null = null;
  /** What a file that is made in this folder has by itself, as the first of them showed. */
  private made: Made | null = null;

  /** Puts a file there; null where that cannot be, or something is there. Throws what hinders writing, and leaves nothing. */
  put(
    folder: ByteString,
    name: ByteString,
    content: Uint8Array,
    metadata: Metadata,
    digest: boolean,
  ): Put | null {
    this.enter(folder);
    if (this.fd === null) return null;
    const fd = makeAt(this.fd, name, UNFINISHED_MODE);
    if (fd === null) return null;
    try {
      this.made ??= ownerAndMode(fd);
      return putInto(fd, content, metadata, digest, this.made);
    } catch (error) {
      unlinkAt(this.fd, name);
      throw error;
    } finally {
      closeOpened(fd);
    }
  }

  private enter(path: ByteString): void {
    if (this.path === path) return;
    this.leave();
    this.path = path;
    try {
      this.fd = openSync(systemPath(path || "/"), O_PATH | constants.O_DIRECTORY | constants.O_NOFOLLOW);
    } catch {
      // what is wrong with it comes out when the file is made by its name
    }
  }

  private leave(): void {
    if (this.fd !== null) closeSync(this.fd);
    this.fd = null;
    this.made = null;
  }

  close(): void {
    this.leave();
    this.path = null;
  }
}

/** `O_PATH` of Linux, which Node does not name: a place to begin from, neither read nor written. */
const O_PATH = 0o10000000;

const hasher = new Blake3Hasher();

function putInto(fd: number, content: Uint8Array, metadata: Metadata, digest: boolean, made?: Made): Put {
  writeAll(fd, content, 0);
  const left = setMetadataOpen(fd, metadata, made);
  if (!digest) return left === NOTHING_LEFT ? WELL_PUT : { ...left, digest: null };
  hasher.reset();
  hasher.update(content as Buffer);
  return { ...left, digest: hasher.digest("hex") };
}
