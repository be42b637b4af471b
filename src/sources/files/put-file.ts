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
import { setMtime, setMtimeOpen, writeXattr } from "./libc";
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
  { fd, isLink = false }: { readonly fd?: number; readonly isLink?: boolean } = {},
): MetadataLeft {
  let owner: string | null = null;
  const attributes: string[] = [];
  try {
    if (fd === undefined) lchownSync(systemPath(path), uid, gid);
    else fchownSync(fd, uid, gid);
  } catch (error) {
    owner = (error as Error).message;
  }
  // after the owner: changing it clears set-id bits
  if (fd !== undefined) fchmodSync(fd, mode);
  else if (!isLink) chmodSync(systemPath(path), mode);
  for (const [name, value] of xattrs) {
    try {
      writeXattr(bytesOf(path), name, value);
    } catch (error) {
      attributes.push((error as Error).message);
    }
  }
  if (fd === undefined) setMtime(bytesOf(path), mtime);
  else setMtimeOpen(fd, mtime);
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

const hasher = new Blake3Hasher();

/** Makes a file with all of its content and its metadata; with a digest, answers the BLAKE3 of the content in hex. */
export function putFile(
  path: ByteString,
  content: Uint8Array,
  metadata: Metadata,
  digest: boolean,
): MetadataLeft & { readonly digest: string | null } {
  const fd = makeFile(path);
  try {
    writeAll(fd, content, 0);
    const left = setMetadata(path, metadata, { fd });
    if (!digest) return { ...left, digest: null };
    hasher.reset();
    hasher.update(content as Buffer);
    return { ...left, digest: hasher.digest("hex") };
  } finally {
    closeSync(fd);
  }
}
