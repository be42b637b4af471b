import { randomBytes } from "node:crypto";
import {
  chmodSync,
  closeSync,
  constants,
  fchmodSync,
  fchownSync,
  ftruncateSync,
  lchownSync,
  linkSync,
  lstatSync,
  mkdirSync,
  openSync,
  renameSync,
  rmdirSync,
  symlinkSync,
  unlinkSync,
  writeSync,
} from "node:fs";
import { Blake3Hasher } from "@napi-rs/blake-hash";
import { type Code, CodedError } from "@/core/codes";
import { filePieces, findEntry, folderEntries } from "@/store/browse";
import type { ChunkReader } from "@/store/reader";
import { type ByteString, byteString, type Entry, showBytes } from "@/store/tree";
import { setMtime, setMtimeOpen, writeXattr } from "./libc";
import { joinPath, systemPath } from "./paths";

export type ClashRule = "keep-both" | "replace" | "skip";

export interface RestoreItem {
  readonly root: Uint8Array;
  /** Moment of the point as it is put into names: `2026-11-17 18.05`. */
  readonly momentLabel: string;
  readonly path: ByteString;
}

export interface RestoreOptions {
  readonly store: ChunkReader;
  /** The folder that counts as `/` on this machine. */
  readonly machineRoot: string;
  /** Null: where it was. Else an absolute folder that takes the items by their names. */
  readonly folder: string | null;
  readonly clash: ClashRule;
  readonly note: (code: Code, path: string, message: string) => void;
  /**
   * Told of each file that is in place: where it is (below the machine's root), its bytes, and the BLAKE3 of its content
   * in hex; null for one with holes and for a second name of a file.
   */
  readonly restored?: (path: string, bytes: number, digest: string | null) => void;
  /**
   * When the first attempt began, where this one goes on from a broken one: what was put in place since then with the size
   * and the time that it should have is not restored once more.
   */
  readonly goesOnSince?: Date | null;
  readonly progress: { items: number; bytes: number };
  readonly signal: AbortSignal;
}

export interface RestoreFigures {
  files: number;
  folders: number;
  links: number;
  bytes: number;
  /** Restored under another name because something was there. */
  keptBoth: number;
  replaced: number;
  skipped: number;
}

/**
 * Writes items of recovery points back to this machine's file system. Files appear under their name only when they are
 * whole. Below the destination no symbolic link is followed.
 */
export async function restoreFiles(
  items: readonly RestoreItem[],
  options: RestoreOptions,
): Promise<RestoreFigures> {
  const restore = new Restore(options);
  for (const item of items) await restore.item(item);
  return restore.figures;
}

class Restore {
  readonly figures: RestoreFigures = {
    files: 0,
    folders: 0,
    links: 0,
    bytes: 0,
    keptBoth: 0,
    replaced: 0,
    skipped: 0,
  };
  private readonly base: ByteString;
  /** Files with several names: where the first of them was put. */
  private readonly firstNames = new Map<string, ByteString>();
  private ownerNoted = false;
  private readonly hasher = new Blake3Hasher();
  private label = "";
  private pointKey = "";

  constructor(private readonly options: RestoreOptions) {
    this.base = options.machineRoot === "/" ? "" : byteString(options.machineRoot);
  }

  async item({ root, momentLabel, path }: RestoreItem): Promise<void> {
    this.label = momentLabel;
    this.pointKey = Buffer.from(root).toString("hex");
    const names = path.split("/").filter(Boolean);
    const original = this.options.folder === null;
    let parent = this.base;
    if (original) {
      let above = "";
      for (const name of names.slice(0, -1)) {
        above += `/${name}`;
        const entry = await findEntry(this.options.store, root, above);
        parent = this.ensureFolder(joinPath(parent, name), entry);
      }
    } else {
      for (const name of byteString(this.options.folder!).split("/").filter(Boolean)) {
        parent = this.ensureFolder(joinPath(parent, name), null);
      }
    }
    if (names.length === 0) {
      for await (const entry of folderEntries(this.options.store, root)) await this.entry(entry, parent);
      return;
    }
    const entry = await findEntry(this.options.store, root, path);
    if (!entry) throw new CodedError("not-found", `${showBytes(path)} is not in this recovery point`);
    await this.entry(entry, parent);
  }

  private ensureFolder(path: ByteString, entry: Entry | null): ByteString {
    const there = lookAt(path);
    if (!there) {
      mkdirSync(systemPath(path), { mode: 0o755 });
      if (entry) this.setMetadata(path, entry);
    } else if (there.isSymbolicLink()) {
      throw new CodedError("restore.link-in-path", showBytes(path));
    } else if (!there.isDirectory()) {
      throw new CodedError("restore.cannot-write", `${showBytes(path)} is not a folder`);
    }
    return path;
  }

  private async entry(entry: Entry, parent: ByteString): Promise<void> {
    if (this.options.signal.aborted) throw this.options.signal.reason;
    const path = joinPath(parent, entry.name);
    try {
      if (entry.type === "folder") await this.folder(entry, path);
      else if (entry.type === "link") this.link(entry, path);
      else await this.file(entry, path);
      this.options.progress.items += 1;
    } catch (error) {
      if (this.options.signal.aborted) throw error;
      const code = error instanceof CodedError ? error.code : systemCode(error);
      if (!code) throw error;
      this.options.note(code, showBytes(path.slice(this.base.length)), (error as Error).message);
    }
  }

  private async folder(entry: Entry, wished: ByteString): Promise<void> {
    let path = wished;
    let there = lookAt(path);
    if (there && !there.isDirectory()) {
      if (there.isSymbolicLink() && this.options.clash !== "keep-both")
        throw new CodedError("restore.link-in-path", showBytes(path));
      const free = this.settleClash(path);
      if (free === null) return;
      path = free;
      there = lookAt(path);
      if (there) unlinkSync(systemPath(path));
      there = undefined;
    }
    // one that a broken attempt made has not got its rights and times yet
    const made = !there || this.isOurs(path);
    if (!there) mkdirSync(systemPath(path), { mode: 0o700 });
    for await (const child of folderEntries(this.options.store, entry.node!)) await this.entry(child, path);
    if (made) {
      this.figures.folders += 1;
      this.setMetadata(path, entry);
    }
  }

  private link(entry: Entry, wished: ByteString): void {
    if (this.donePreviously(entry, wished) !== null) {
      this.figures.links += 1;
      return;
    }
    const path = this.settleClash(wished);
    if (path === null) return;
    const unfinished = unfinishedName(path);
    symlinkSync(Buffer.from(entry.target!, "latin1"), systemPath(unfinished));
    this.setMetadata(unfinished, entry);
    this.putInPlace(unfinished, path);
    this.figures.links += 1;
  }

  private async file(entry: Entry, wished: ByteString): Promise<void> {
    const done = this.donePreviously(entry, wished);
    if (done !== null) {
      if (entry.sameFile) this.firstNames.set(`${this.pointKey} ${entry.sameFile}`, done);
      this.figures.files += 1;
      this.figures.bytes += entry.size ?? 0;
      this.options.progress.bytes += entry.size ?? 0;
      this.options.restored?.(showBytes(done.slice(this.base.length)), entry.size ?? 0, null);
      return;
    }
    const path = this.settleClash(wished);
    if (path === null) return;
    const unfinished = unfinishedName(path);
    const sameFile = entry.sameFile ? `${this.pointKey} ${entry.sameFile}` : null;
    const first = sameFile ? this.firstNames.get(sameFile) : undefined;
    let digest: string | null = null;
    try {
      if (first) linkSync(systemPath(first), systemPath(unfinished));
      else digest = await this.writeContent(entry, unfinished);
      this.putInPlace(unfinished, path);
      if (first) tryUnlink(unfinished); // a rename between two names of one file leaves both
    } catch (error) {
      tryUnlink(unfinished);
      throw error;
    }
    if (sameFile && !first) this.firstNames.set(sameFile, path);
    this.figures.files += 1;
    this.figures.bytes += entry.size ?? 0;
    this.options.restored?.(showBytes(path.slice(this.base.length)), entry.size ?? 0, digest);
  }

  /** Makes a file with its metadata. */
  private async writeContent(entry: Entry, path: ByteString): Promise<string | null> {
    const hasher = this.options.restored && !entry.extents ? this.hasher : null;
    hasher?.reset();
    const fd = openSync(
      systemPath(path),
      constants.O_CREAT | constants.O_EXCL | constants.O_WRONLY | constants.O_NOFOLLOW,
      0o600,
    );
    try {
      if (entry.extents) ftruncateSync(fd, entry.size ?? 0);
      for await (const piece of filePieces(this.options.store, entry)) {
        if (this.options.signal.aborted) throw this.options.signal.reason;
        let written = 0;
        while (written < piece.bytes.length) {
          written += writeSync(
            fd,
            piece.bytes,
            written,
            piece.bytes.length - written,
            piece.offset + written,
          );
        }
        hasher?.update(piece.bytes);
        this.options.progress.bytes += piece.bytes.length;
      }
      this.setMetadata(path, entry, fd);
      return hasher ? hasher.digest("hex") : null;
    } finally {
      closeSync(fd);
    }
  }

  /** Whether something was made since the first attempt of this restore began. */
  private isOurs(path: ByteString): boolean {
    const since = this.options.goesOnSince;
    if (!since) return false;
    const there = lstatSync(systemPath(path), { throwIfNoEntry: false });
    // where the file system knows no birth, its last change of any kind
    return there !== undefined && (there.birthtimeMs || there.ctimeMs) >= since.getTime();
  }

  /** Where a broken attempt put this item, whole; null where it did not. */
  private donePreviously(entry: Entry, wished: ByteString): ByteString | null {
    if (!this.options.goesOnSince) return null;
    for (const path of [wished, this.marked(wished, 1)]) {
      const there = lstatSync(systemPath(path), { bigint: true, throwIfNoEntry: false });
      if (!there || !this.isOurs(path)) continue;
      if (
        entry.type === "file" &&
        there.isFile() &&
        there.size === BigInt(entry.size ?? 0) &&
        there.mtimeNs === entry.mtime
      )
        return path;
      if (entry.type === "link" && there.isSymbolicLink() && there.mtimeNs === entry.mtime) return path;
    }
    return null;
  }

  /** A name beside another one: with the moment, and a number from the second on. */
  private marked(path: ByteString, number: number): ByteString {
    const slash = path.lastIndexOf("/") + 1;
    const name = path.slice(slash);
    const dot = name.lastIndexOf(".");
    const stem = dot > 0 ? name.slice(0, dot) : name;
    const ending = dot > 0 ? name.slice(dot) : "";
    const mark = ` (${this.label}${number > 1 ? ` ${number}` : ""})`;
    // a name has 255 bytes at most: the stem gives way to the mark
    return path.slice(0, slash) + stem.slice(0, 255 - mark.length - ending.length) + mark + ending;
  }

  /** Where the item goes when something may be there already; null when it is left. */
  private settleClash(path: ByteString): ByteString | null {
    if (!lookAt(path)) return path;
    if (this.options.clash === "skip") {
      this.figures.skipped += 1;
      return null;
    }
    if (this.options.clash === "replace") {
      this.figures.replaced += 1;
      return path;
    }
    this.figures.keptBoth += 1;
    for (let number = 1; ; number += 1) {
      const other = this.marked(path, number);
      if (!lookAt(other)) return other;
    }
  }

  private putInPlace(unfinished: ByteString, path: ByteString): void {
    const there = lookAt(path);
    if (there?.isDirectory()) {
      try {
        rmdirSync(systemPath(path));
      } catch (error) {
        tryUnlink(unfinished);
        throw new CodedError("restore.cannot-write", `${showBytes(path)} is a folder that is not empty`, {
          cause: error,
        });
      }
    }
    renameSync(systemPath(unfinished), systemPath(path));
  }

  /** Owner, rights, attributes, time; through the open file where there is one. */
  private setMetadata(path: ByteString, entry: Entry, fd?: number): void {
    const system = systemPath(path);
    const bytes = Buffer.from(path, "latin1");
    try {
      if (fd === undefined) lchownSync(system, entry.uid, entry.gid);
      else fchownSync(fd, entry.uid, entry.gid);
    } catch (error) {
      if (!this.ownerNoted)
        this.options.note(
          "restore.owner-not-set",
          showBytes(path.slice(this.base.length)),
          (error as Error).message,
        );
      this.ownerNoted = true;
    }
    if (fd !== undefined) fchmodSync(fd, entry.mode);
    else if (entry.type !== "link") chmodSync(system, entry.mode); // after the owner: changing it clears set-id bits
    for (const [name, value] of entry.xattrs ?? []) {
      try {
        writeXattr(bytes, name, value);
      } catch (error) {
        this.options.note(
          "restore.metadata",
          showBytes(path.slice(this.base.length)),
          (error as Error).message,
        );
      }
    }
    if (fd === undefined) setMtime(bytes, entry.mtime);
    else setMtimeOpen(fd, entry.mtime);
  }
}

/** Names of files that are not whole yet: random for this process, then counted. */
const unfinishedMark = randomBytes(6).toString("hex");
let unfinishedCount = 0;
function unfinishedName(path: ByteString): ByteString {
  unfinishedCount += 1;
  return `${path.slice(0, path.lastIndexOf("/") + 1)}.deep-keep-${unfinishedMark}-${unfinishedCount}.part`;
}

const lookAt = (path: ByteString) => lstatSync(systemPath(path), { throwIfNoEntry: false });

function tryUnlink(path: ByteString): void {
  try {
    unlinkSync(systemPath(path));
  } catch {
    // it was renamed away, or never made
  }
}

function systemCode(error: unknown): Code | null {
  const code = (error as NodeJS.ErrnoException).code;
  return typeof code === "string" && /^E[A-Z]+$/.test(code) ? "restore.cannot-write" : null;
}
