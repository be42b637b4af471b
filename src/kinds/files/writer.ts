import { randomUUID } from "node:crypto";
import {
  type BigIntStats,
  closeSync,
  ftruncateSync,
  linkSync,
  lstatSync,
  mkdirSync,
  readlinkSync,
  symlinkSync,
  unlinkSync,
} from "node:fs";
import { Blake3Hasher } from "@napi-rs/blake-hash";
import { type Code, CodedError } from "@/core/codes";
import { besideName } from "@/sources/beside-name";
import { joinPath, systemPath } from "@/sources/machine/paths";
import type { Holder } from "@/store/cutting/windows";
import { filePieces, findEntry, folderEntries, folderPages } from "@/store/read/browse";
import type { AtHand, ChunkReader } from "@/store/read/reader";
import { ID_BYTES } from "@/store/seal/identity";
import { type ByteString, byteString, type Entry, showBytes } from "@/store/tree/tree";
import { Prefetcher } from "@/store/write/prefetcher";
import { beginPlacing, type Placing, SMALL_BYTES } from "./placing";
import { lookAt, type Placed, putInPlace, tryUnlink, unfinishedIn, unfinishedOf } from "./placing-batch";
import {
  isUnfinished,
  type MetadataLeft,
  makeFile,
  setMetadata,
  setMetadataOpen,
  UNFINISHED_MODE,
} from "./put-file";

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
   * in hex; null for one with holes, for a second name of a file, and for one of which no digest is wanted any more.
   */
  readonly restored?: (path: string, bytes: number, digest: string | null) => void;
  /** Whether somebody wants the digest of the next file; without it nobody does. */
  readonly wantsDigest?: () => boolean;
  /**
   * When the first attempt began, where this one goes on from a broken one: what was put in place since then with the size
   * and the time that it should have is not restored once more.
   */
  readonly goesOnSince?: Date | null;
  /**
   * Files and links with several names: where the first of each was put. One map for all calls of a restore keeps them
   * one file, also where a basket names them one by one.
   */
  readonly firstNames?: Map<string, ByteString>;
  /**
   * What files are named by that are not whole yet, the same in each attempt at one restore and in no other's: letters, digits
   * and dashes. What a broken attempt left under such names is taken away by the one that goes on.
   */
  readonly mark?: string;
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
  try {
    for (const item of items) await restore.item(item);
  } finally {
    await restore.drained();
  }
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
  private readonly firstNames: Map<string, ByteString>;
  private ownerNoted = false;
  private readonly hasher = new Blake3Hasher();
  private readonly mark: string;
  private readonly placing: Placing;
  /** Where files are on their way to, in folders that were there. */
  private readonly taken = new Set<ByteString>();
  /** Whether this item made folders, whose files may be on their way. */
  private madeFolders = false;
  private prefetcher: Prefetcher | null = null;
  private label = "";
  private pointKey = "";

  constructor(private readonly options: RestoreOptions) {
    this.firstNames = options.firstNames ?? new Map();
    this.base = options.machineRoot === "/" ? "" : byteString(options.machineRoot);
    this.mark = options.mark ?? randomUUID();
    this.placing = beginPlacing(this.mark);
  }

  drained(): Promise<void> {
    return this.placing.drained();
  }

  async item({ root, momentLabel, path }: RestoreItem): Promise<void> {
    // the same place twice in one basket: what comes later finds what came first
    if (this.madeFolders) await this.drained();
    this.madeFolders = false;
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
    await this.clearLeft(parent);
    if (names.length === 0) {
      await this.prefetched(root, async () => {
        for await (const entry of folderEntries(this.options.store, root))
          await this.entry(entry, parent, false);
      });
      return;
    }
    const entry = await findEntry(this.options.store, root, path);
    if (!entry) throw new CodedError("not-found", `${showBytes(path)} is not in this recovery point`);
    await this.prefetched(entry.node, () => this.anyEntry(entry, joinPath(parent, entry.name), false));
  }

  /** Restores what is in a folder while somebody walks ahead. */
  private async prefetched(node: Uint8Array | undefined, work: () => Promise<void>): Promise<void> {
    const prefetcher = node ? new Prefetcher(this.options.store, node) : null;
    this.prefetcher = prefetcher;
    try {
      await work();
    } finally {
      prefetcher?.stop();
      this.prefetcher = null;
    }
  }

  private ensureFolder(path: ByteString, entry: Entry | null): ByteString {
    const there = lookAt(path);
    if (!there) {
      mkdirSync(systemPath(path), { mode: 0o755 });
      if (entry) this.noteLeft(path, setMetadata(path, entry));
    } else if (there.isSymbolicLink()) {
      throw new CodedError("restore.link-in-path", showBytes(path));
    } else if (!there.isDirectory()) {
      throw new CodedError("restore.cannot-write", `${showBytes(path)} is not a folder`);
    }
    return path;
  }

  /**
   * Null when there is nothing to wait for: of most files the content is at hand, and they are many.
   *
   * @param fresh the parent was made by this restore, and nobody else can have put anything into it
   */
  private entry(entry: Entry, parent: ByteString, fresh: boolean): Promise<void> | null {
    if (this.options.signal.aborted) throw this.options.signal.reason;
    this.prefetcher?.pass();
    const whole = fresh && isSmall(entry) ? this.atHand(entry) : null;
    if (!whole) return this.anyEntry(entry, joinPath(parent, entry.name), fresh);
    return this.handOver(entry, parent, entry.name, true, [whole.bytes], whole.holder);
  }

  private async anyEntry(entry: Entry, path: ByteString, fresh: boolean): Promise<void> {
    if (!fresh && this.taken.has(path)) await this.drained();
    try {
      if (entry.type === "folder") await this.folder(entry, path, fresh);
      else if (entry.type === "link") this.link(entry, path, fresh);
      else if (await this.file(entry, path, fresh)) return;
      this.options.progress.items += 1;
    } catch (error) {
      if (this.options.signal.aborted) throw error;
      this.noteFailure(path, error as Error);
    }
  }

  /** Notes what one item failed with; throws what nobody foresaw. */
  private noteFailure(path: ByteString, error: Error): void {
    const code = error instanceof CodedError ? error.code : systemCode((error as NodeJS.ErrnoException).code);
    if (!code) throw error;
    this.options.note(code, this.shown(path), error.message);
  }

  /** A path as it is told: below the machine's root. */
  private readonly shown = (path: ByteString): string => showBytes(path.slice(this.base.length));

  private async folder(entry: Entry, wished: ByteString, fresh: boolean): Promise<void> {
    let path = wished;
    let there = fresh ? undefined : lookAt(path);
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
    if (there) await this.clearLeft(path);
    else {
      mkdirSync(systemPath(path), { mode: 0o700 });
      this.madeFolders = true;
    }
    for await (const page of folderPages(this.options.store, entry.node!))
      for (const child of page) {
        const waits = this.entry(child, path, !there);
        if (waits) await waits;
      }
    if (!made) return;
    this.figures.folders += 1;
    // what is put into it would change its time
    this.placing.afterwards(() => {
      try {
        this.noteLeft(path, setMetadata(path, entry));
      } catch (error) {
        this.noteFailure(path, error as Error);
      }
    });
  }

  /** Takes away what a broken attempt was writing in a folder when it was killed. */
  private async clearLeft(folder: ByteString): Promise<void> {
    if (!this.options.goesOnSince || unfinishedOf(folder, this.mark).length === 0) return;
    // what this one is about to put there has such names too
    await this.drained();
    for (const path of unfinishedOf(folder, this.mark)) tryUnlink(path);
  }

  private link(entry: Entry, wished: ByteString, fresh: boolean): void {
    if (!fresh && this.donePreviously(entry, wished) !== null) {
      this.figures.links += 1;
      return;
    }
    const path = fresh ? wished : this.settleClash(wished);
    if (path === null) return;
    if (fresh && this.makeLink(entry, path)) {
      this.noteLeft(path, setMetadata(path, entry, true));
    } else {
      const unfinished = unfinishedBeside(path, this.mark);
      this.makeLink(entry, unfinished);
      this.noteLeft(path, setMetadata(unfinished, entry, true));
      putInPlace(unfinished, path, fresh);
      if (entry.sameFile) tryUnlink(unfinished); // a rename between two names of one link leaves both
    }
    if (entry.sameFile) this.firstNames.set(`${this.pointKey} ${entry.sameFile}`, path);
    this.figures.links += 1;
  }

  /** False where something is there. */
  private makeLink(entry: Entry, path: ByteString): boolean {
    const sameFile = entry.sameFile ? `${this.pointKey} ${entry.sameFile}` : null;
    const first = sameFile ? this.firstNames.get(sameFile) : undefined;
    try {
      // several names of one link stay one
      if (first) {
        linkSync(systemPath(first), systemPath(path));
        return true;
      }
      symlinkSync(Buffer.from(entry.target!, "latin1"), systemPath(path));
      return true;
    } catch (error) {
      if ((error as NodeJS.ErrnoException).code !== "EEXIST") throw error;
      return false;
    }
  }

  /** Whether it is on its way, to be counted when it is in place. */
  private async file(entry: Entry, wished: ByteString, fresh: boolean): Promise<boolean> {
    const done = fresh ? null : this.donePreviously(entry, wished);
    if (done !== null) {
      if (entry.sameFile) this.firstNames.set(`${this.pointKey} ${entry.sameFile}`, done);
      this.options.progress.bytes += entry.size ?? 0;
      this.countFile(entry, done, null);
      return false;
    }
    const path = fresh ? wished : this.settleClash(wished);
    if (path === null) return false;
    if (isSmall(entry)) {
      await this.placeSmall(entry, path, fresh);
      return true;
    }
    const unfinished = unfinishedBeside(path, this.mark);
    const sameFile = entry.sameFile ? `${this.pointKey} ${entry.sameFile}` : null;
    const first = sameFile ? this.firstNames.get(sameFile) : undefined;
    let digest: string | null = null;
    try {
      if (first) linkSync(systemPath(first), systemPath(unfinished));
      else digest = await this.writeContent(entry, unfinished, path);
      putInPlace(unfinished, path, fresh);
      if (first) tryUnlink(unfinished); // a rename between two names of one file leaves both
    } catch (error) {
      tryUnlink(unfinished);
      throw error;
    }
    if (sameFile && !first) this.firstNames.set(sameFile, path);
    this.countFile(entry, path, digest);
    return false;
  }

  private countFile(entry: Entry, path: ByteString, digest: string | null): void {
    this.figures.files += 1;
    this.figures.bytes += entry.size ?? 0;
    this.options.restored?.(this.shown(path), entry.size ?? 0, digest);
  }

  /** Hands a file over that is written at once, beside this thread. */
  private async placeSmall(entry: Entry, path: ByteString, fresh: boolean): Promise<void> {
    const whole = this.atHand(entry);
    const content: Uint8Array[] = whole ? [whole.bytes] : [];
    if (!whole) for await (const piece of filePieces(this.options.store, entry)) content.push(piece.bytes);
    if (this.options.signal.aborted) throw this.options.signal.reason;
    const slash = path.lastIndexOf("/");
    await this.handOver(entry, path.slice(0, slash), path.slice(slash + 1), fresh, content, whole?.holder);
  }

  /** The content of a file that is one chunk in the block that was read last. */
  private atHand({ chunks, size }: Entry): AtHand | null {
    if (chunks?.length !== ID_BYTES) return null;
    try {
      const whole = this.options.store.atHand(chunks);
      return whole?.bytes.length === size ? whole : null;
    } catch {
      // what is wrong with it comes out when it is read as any other
      return null;
    }
  }

  private handOver(
    entry: Entry,
    folder: ByteString,
    name: ByteString,
    fresh: boolean,
    content: readonly Uint8Array[],
    holder: Holder | undefined,
  ): Promise<void> | null {
    const digest = this.options.wantsDigest?.() ?? false;
    if (!fresh) this.taken.add(joinPath(folder, name));
    return this.placing.put(
      { folder, name, fresh, metadata: entry, digest },
      content,
      (placed) => this.hearPlaced(entry, joinPath(folder, name), placed, fresh),
      holder,
    );
  }

  private hearPlaced(entry: Entry, path: ByteString, placed: Placed, fresh: boolean): void {
    if (!fresh) this.taken.delete(path);
    if ("code" in placed) {
      const code = placed.coded ? (placed.code as Code) : systemCode(placed.code);
      if (!code) throw new Error(placed.message);
      this.options.note(code, this.shown(path), placed.message);
      return;
    }
    this.noteLeft(path, placed);
    this.options.progress.items += 1;
    this.options.progress.bytes += entry.size ?? 0;
    this.countFile(entry, path, placed.digest);
  }

  /** Makes a file with its metadata, piece by piece. */
  private async writeContent(entry: Entry, unfinished: ByteString, path: ByteString): Promise<string | null> {
    const hasher = this.options.wantsDigest?.() && !entry.extents ? this.hasher : null;
    hasher?.reset();
    const fd = makeFile(unfinished);
    const underWay: Promise<void>[] = [];
    try {
      if (entry.extents) ftruncateSync(fd, entry.size ?? 0);
      for await (const { bytes, offset } of filePieces(this.options.store, entry)) {
        if (this.options.signal.aborted) throw this.options.signal.reason;
        hasher?.update(bytes);
        if (underWay.length >= WRITTEN_AT_ONCE) await underWay.shift();
        const writing = this.placing.write(fd, bytes, offset);
        writing.catch(() => {}); // it comes out below
        underWay.push(writing);
        this.options.progress.bytes += bytes.length;
      }
      await Promise.all(underWay);
      this.noteLeft(path, setMetadataOpen(fd, entry));
      return hasher ? hasher.digest("hex") : null;
    } finally {
      await Promise.allSettled(underWay);
      closeSync(fd);
    }
  }

  private noteLeft(path: ByteString, { owner, attributes }: MetadataLeft): void {
    if (owner !== null && !this.ownerNoted) {
      this.options.note("restore.owner-not-set", this.shown(path), owner);
      this.ownerNoted = true;
    }
    for (const message of attributes) this.options.note("restore.metadata", this.shown(path), message);
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
      if (isWhole(entry, there)) return path;
      if (isLeft(entry, path, there)) tryUnlink(path);
    }
    return null;
  }

  /** A name beside another one: with the moment, and a number from the second on. */
  private marked(path: ByteString, number: number): ByteString {
    const slash = path.lastIndexOf("/") + 1;
    return path.slice(0, slash) + besideName(path.slice(slash), this.label, number);
  }

  private isTaken(path: ByteString): boolean {
    return this.taken.has(path) || lookAt(path) !== undefined;
  }

  /** Where the item goes when something may be there already; null when it is left. */
  private settleClash(path: ByteString): ByteString | null {
    if (!this.isTaken(path)) return path;
    // nobody wants what a program left that died while it put a file there, but it is not ours to take away
    if (this.options.clash === "skip" && !isUnfinished(lookAt(path))) {
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
      if (!this.isTaken(other)) return other;
    }
  }
}

/** Whether what a broken attempt of this restore put there has its content and its time, and a file its rights, which come last. */
function isWhole(entry: Entry, there: BigIntStats): boolean {
  if (there.mtimeNs !== entry.mtime) return false;
  if (entry.type === "link") return there.isSymbolicLink();
  if (entry.type !== "file" || !there.isFile() || there.size !== BigInt(entry.size ?? 0)) return false;
  return entry.mode === UNFINISHED_MODE || !isUnfinished(there);
}

/** Whether a broken attempt of this restore was about to put an item there, and had not given it its time and rights. */
const isLeft = (entry: Entry, path: ByteString, there: BigIntStats): boolean =>
  entry.type === "link"
    ? there.isSymbolicLink() && readlinkSync(systemPath(path), "latin1") === entry.target
    : isUnfinished(there);

/** Of what is put in place beside this thread: one name, no holes, and not long. */
const isSmall = ({ type, sameFile, extents, size }: Entry): boolean =>
  type === "file" && !sameFile && !extents && (size ?? 0) <= SMALL_BYTES;

/** Pieces of a file that are written while the next is read: far less than what a reader promises to leave as it is. */
const WRITTEN_AT_ONCE = 2;

/** A name for what is not whole yet, in the folder that it will have its place in. */
const unfinishedBeside = (path: ByteString, mark: string): ByteString =>
  unfinishedIn(path.slice(0, path.lastIndexOf("/")), mark);

function systemCode(code: string | undefined | null): Code | null {
  return typeof code === "string" && /^E[A-Z]+$/.test(code) ? "restore.cannot-write" : null;
}
