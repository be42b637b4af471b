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
import type { ByteString } from "@/store/tree";
import {
  closeOpened,
  makeAt,
  ownerAndMode,
  setMtime,
  setMtimeOpen,
  unlinkAt,
  writeXattr,
  writeXattrOpen,
} from "./libc";
import { systemPath } from "./paths";

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

interface Owner {
  readonly uid: number;
  readonly gid: number;
}
/** What a new file has by itself: most have the owner that they should have, and finding that out takes less than setting it. */
type Made = Owner & { readonly mode: number };

/** What could not be set: nobody else may own files for an account that is not the system's own. */
export interface MetadataLeft {
  readonly owner: string | null;
  readonly attributes: readonly string[];
}

const bytesOf = (path: ByteString): Buffer => Buffer.from(path, "latin1");

/** Owner, rights, attributes, time; through the open file where there is one. */
export function setMetadata(
  path: ByteString,
  { uid, gid, mode, mtime, xattrs = [] }: Metadata,
  { fd, made, isLink = false }: { readonly fd?: number; readonly made?: Made; readonly isLink?: boolean } = {},
): MetadataLeft {
  let owner: string | null = null;
  const attributes: string[] = [];
  const owned = made?.uid === uid && made.gid === gid;
  try {
    if (fd === undefined) lchownSync(systemPath(path), uid, gid);
    else if (!owned) fchownSync(fd, uid, gid);
  } catch (error) {
    owner = (error as Error).message;
  }
  for (const [name, value] of xattrs) {
    try {
      if (fd === undefined) writeXattr(bytesOf(path), name, value);
      else writeXattrOpen(fd, name, value);
    } catch (error) {
      attributes.push((error as Error).message);
    }
  }
  if (fd === undefined) setMtime(bytesOf(path), mtime);
  else setMtimeOpen(fd, mtime);
  // after the owner, since changing it clears set-id bits; and last, since that tells that all else is done
  if (fd === undefined) {
    if (!isLink) chmodSync(systemPath(path), mode);
  } else if (!owned || made.mode !== mode) fchmodSync(fd, mode);
  return { owner, attributes };
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

/** Makes a file with all of its content and its metadata. */
export function putFile(path: ByteString, content: Uint8Array, metadata: Metadata, digest: boolean): Put {
  const fd = makeFile(path);
  try {
    return putInto(fd, path, content, metadata, digest);
  } finally {
    closeSync(fd);
  }
}

/** Rights of a file that is not whole yet: nobody can read what it has so far, but those who may read everything. */
const UNFINISHED_MODE = 0o200;

/** Whether something at a name is what a program left that died while it put a file there. */
export const isUnfinished = ({ mode }: { readonly mode: number }): boolean =>
  (mode & constants.S_IFMT) === constants.S_IFREG && (mode & 0o7777) === UNFINISHED_MODE;

/**
 * Folders that nobody but this program puts files into. Each file has its name at once, since giving it one later takes half
 * as long again, and nobody can read it before it is whole. The last folder is kept open; close them when all is put.
 */
export class OwnFolders {
  private path: ByteString | null = null;
  /** Null where the folder cannot be opened. */
  private fd: number | null = null;
  /** Whose a file is that is made in this folder, as the first of them showed. */
  private owner: Owner | null = null;

  /** Puts a file at a path; null where that cannot be, or something is there. Throws what hinders writing, and leaves nothing. */
  put(path: ByteString, content: Uint8Array, metadata: Metadata, digest: boolean): Put | null {
    const slash = path.lastIndexOf("/");
    this.enter(path.slice(0, slash));
    if (this.fd === null) return null;
    const name = path.slice(slash + 1);
    const fd = makeAt(this.fd, name, UNFINISHED_MODE);
    if (fd === null) return null;
    try {
      this.owner ??= ownerAndMode(fd);
      return putInto(fd, path, content, metadata, digest, { ...this.owner, mode: UNFINISHED_MODE });
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
    this.owner = null;
  }

  close(): void {
    this.leave();
    this.path = null;
  }
}

/** `O_PATH` of Linux, which Node does not name: a place to begin from, neither read nor written. */
const O_PATH = 0o10000000;

const hasher = new Blake3Hasher();

function putInto(
  fd: number,
  path: ByteString,
  content: Uint8Array,
  metadata: Metadata,
  digest: boolean,
  made: Made = ownerAndMode(fd),
): Put {
  writeAll(fd, content, 0);
  const left = setMetadata(path, metadata, { fd, made });
  if (!digest) return { ...left, digest: null };
  hasher.reset();
  hasher.update(content as Buffer);
  return { ...left, digest: hasher.digest("hex") };
}
