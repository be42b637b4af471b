import { type Code, CodedError } from "@/core/codes";
import type { Selector } from "@/core/selection/selection";
import { outermostFolders } from "@/core/selection/selection";
import { CHUNK_MAX, CHUNK_MIN } from "@/store/chunker";
import { WINDOW_BYTES, type Window, Windows } from "@/store/cutting/windows";
import type { StoreKeys } from "@/store/keys";
import { ID_BYTES } from "@/store/pack";
import type { PointCounts } from "@/store/point";
import {
  type ByteString,
  type Entry,
  encodeChunkPage,
  encodeFolder,
  encodePages,
  type FolderPage,
  pageEntries,
  showBytes,
  type TreeNode,
} from "@/store/tree";
import type { StoreWriter } from "@/store/writer";
import type { Listed, SourceReader } from "./reader";

/** The tree of the recovery point before, for telling what is unchanged. */
export interface PreviousTree {
  readonly root: Uint8Array;
  node(id: Uint8Array): TreeNode;
}

export interface SnapshotProgress {
  items: number;
  /** Bytes of the files passed, read or not. */
  bytes: number;
  /** Of these, so many were not read: their files are unchanged. */
  unread?: number;
}

export interface SnapshotOptions {
  readonly reader: SourceReader;
  readonly writer: StoreWriter;
  readonly keys: StoreKeys;
  /** Absolute folders to take. */
  readonly folders: readonly string[];
  readonly selector: Selector;
  readonly previous: PreviousTree | null;
  /** Reads every file anew, whatever its times say. */
  readonly readAll?: boolean;
  /** Called for every node of the new tree; what it is given becomes the next run's previous tree. */
  readonly keepNode: (id: Uint8Array, bytes: Uint8Array | null) => void;
  /** Called for every item that is passed over, in whole or in part. */
  readonly note: (code: Code, path: string, message: string) => void;
  readonly progress: SnapshotProgress;
  readonly signal: AbortSignal;
}

export interface SnapshotFigures {
  /** Files whose content was read, and the bytes read. */
  filesRead: number;
  bytesRead: number;
  /** Files taken over from the last point without reading them. */
  filesUnchanged: number;
  /** Files that were there before and whose content differs; of these, those that turned dense. */
  changed: number;
  denser: number;
  removed: number;
  /** Files that are there under their old name with another ending, as far as their folder shows. */
  renamed: number;
  /** The folder with the most changed files, for evidence. */
  busiestFolder: string | null;
}

export interface SnapshotResult {
  readonly root: Uint8Array;
  readonly counts: PointCounts;
  readonly figures: SnapshotFigures;
}

const CHUNKS_INLINE = 1024;
/** A long file begins in the window at hand when it has at least this much room. */
const ROOM_TO_BEGIN = 1024 * 1024;
/** A file touched this lately may change again without its times telling; nanoseconds. */
const CLOCK_GRAIN = 20_000_000n;
const WORK_SLICE_MS = 40;

/** Reads the chosen folders and stores them as one tree. Reading, compressing and storing overlap. */
export async function storeSnapshot(options: SnapshotOptions): Promise<SnapshotResult> {
  return new Snapshot(options).run();
}

interface StoredFolder {
  readonly node: Uint8Array;
  readonly entries: number;
}

class Snapshot {
  private readonly counts = { files: 0, folders: 0, links: 0, bytes: 0 };
  private readonly figures: SnapshotFigures = {
    filesRead: 0,
    bytesRead: 0,
    filesUnchanged: 0,
    changed: 0,
    denser: 0,
    removed: 0,
    renamed: 0,
    busiestFolder: null,
  };
  private readonly windows: Windows;
  /** The window that is being filled, and how much of it is. */
  private window: Window | null = null;
  private used = 0;
  private sliceEnds = 0;
  private busiest = 0;

  constructor(private readonly options: SnapshotOptions) {
    this.windows = Windows.lend(options.keys.gear);
  }

  async run(): Promise<SnapshotResult> {
    const folders = outermostFolders(this.options.folders).map((folder) =>
      Buffer.from(folder, "utf8").toString("latin1"),
    );
    const { root } = this.options.previous ?? {};
    const stored = await this.storePart("/", folders, root);
    this.window?.release();
    await this.options.writer.flush();
    this.windows.giveBack();
    return { root: stored.node, counts: this.counts, figures: this.figures };
  }

  /** A folder on the way to the chosen ones, or a chosen one itself. */
  private async storePart(
    path: ByteString,
    chosen: readonly ByteString[],
    previous: Uint8Array | undefined,
  ): Promise<StoredFolder> {
    if (chosen.includes(path)) return this.storeFolder(path, previous);
    const base = path === "/" ? "" : path;
    const names = [...new Set(chosen.map((folder) => folder.slice(base.length + 1).split("/")[0]!))].sort();
    const before = this.previousEntries(previous);
    const entries: Entry[] = [];
    for (const name of names) {
      const child = `${base}/${name}`;
      const below = chosen.filter((folder) => folder === child || folder.startsWith(`${child}/`));
      let found: Listed;
      try {
        found = await this.options.reader.look(child);
        if (found.type !== "folder")
          throw new CodedError("folder.missing", `${showBytes(child)} is no folder`);
      } catch (error) {
        this.problem(child, error);
        continue;
      }
      this.counts.folders += 1;
      const stored = await this.storePart(child, below, before.get(name)?.node);
      entries.push({ ...this.metadata(found, child), type: "folder", node: stored.node });
    }
    return { node: this.addFolder(entries), entries: entries.length };
  }

  private async storeFolder(path: ByteString, previous: Uint8Array | undefined): Promise<StoredFolder> {
    const before = this.previousEntries(previous);
    let found: Listed[] = [];
    try {
      found = await this.options.reader.list(path, this.problem);
    } catch (error) {
      this.problem(path, error);
    }
    const base = path === "/" ? "" : path;
    const entries: Entry[] = [];
    let same = previous !== undefined;
    let changedHere = 0;
    for (const item of found) {
      if (this.options.signal.aborted) throw this.options.signal.reason;
      if (this.options.writer.crowded) await this.options.writer.room();
      if (performance.now() > this.sliceEnds) await this.breathe();
      const child = `${base}/${item.name}`;
      const old = before.get(item.name);
      const entry = await this.storeItem(item, child, old);
      if (!entry) continue;
      entries.push(entry);
      if (entry !== old) {
        same = false;
        if (old?.type === "file" && entry.type === "file" && this.countChange(old, entry)) changedHere += 1;
      }
    }
    const gone = this.removedFiles(before, entries);
    this.figures.removed += gone.length;
    changedHere += this.countRenamed(gone, before, entries);
    if (changedHere > this.busiest) {
      this.busiest = changedHere;
      this.figures.busiestFolder = showBytes(path);
    }
    if (same && entries.length === before.size) {
      this.keepOld(previous!);
      return { node: previous!, entries: entries.length };
    }
    return { node: this.addFolder(entries), entries: entries.length };
  }

  private async storeItem(item: Listed, path: ByteString, old: Entry | undefined): Promise<Entry | null> {
    const { selector } = this.options;
    switch (item.type) {
      case "other":
        if (selector.takesFile(showBytes(path))) this.options.note("file.special", showBytes(path), "");
        return null;
      case "folder": {
        if (!selector.takesFolder(showBytes(path))) return null;
        this.counts.folders += 1;
        this.options.progress.items += 1;
        const stored = this.options.reader.passesOver(path)
          ? { node: this.addFolder([]) }
          : await this.storeFolder(path, old?.type === "folder" ? old.node : undefined);
        const unchanged =
          old?.type === "folder" &&
          sameTimes(item, old) &&
          old.node &&
          Buffer.compare(old.node, stored.node) === 0;
        return unchanged ? old : { ...this.metadata(item, path), type: "folder", node: stored.node };
      }
      case "link": {
        if (!selector.takesFile(showBytes(path))) return null;
        this.counts.links += 1;
        this.options.progress.items += 1;
        if (old?.type === "link" && sameTimes(item, old)) return old;
        try {
          return { ...this.metadata(item, path), type: "link", target: this.options.reader.target(path) };
        } catch (error) {
          this.problem(path, error);
          return null;
        }
      }
      case "file":
        return selector.takesFile(showBytes(path), item.size, item.mtime)
          ? this.storeFile(item, path, old)
          : null;
    }
  }

  private async storeFile(item: Listed, path: ByteString, old: Entry | undefined): Promise<Entry | null> {
    const { progress } = this.options;
    progress.items += 1;
    if (
      !this.options.readAll &&
      old?.type === "file" &&
      old.size === item.size &&
      sameTimes(item, old) &&
      old.sameFile === item.sameFile
    ) {
      this.figures.filesUnchanged += 1;
      this.count(item.size);
      progress.unread = (progress.unread ?? 0) + item.size;
      return old;
    }
    try {
      const before = this.figures.bytesRead;
      const content = await this.storeContent(path);
      this.figures.filesRead += 1;
      this.count(content.size, this.figures.bytesRead - before);
      // written out: of very many files, copying the parts together would take a sixth of the time
      const { name, mode, uid, gid, mtime, ctime, inode, xattrs } = this.metadata(item, path);
      const { size, chunks, chunkPages, extents, dense } = content;
      const { sameFile } = item;
      return {
        name,
        type: "file",
        mode,
        uid,
        gid,
        mtime,
        ctime,
        inode,
        xattrs,
        size,
        chunks,
        chunkPages,
        extents,
        sameFile,
        dense,
      };
    } catch (error) {
      if (this.options.signal.aborted || !(error instanceof CodedError) || !error.code.startsWith("file."))
        throw error;
      this.problem(path, error);
      return null;
    }
  }

  /** Counts a file that is done; `told` bytes of it were told of while they were read. */
  private count(size: number, told = 0): void {
    this.counts.files += 1;
    this.counts.bytes += size;
    this.options.progress.bytes += Math.max(0, size - told);
  }

  private async storeContent(
    path: ByteString,
  ): Promise<Pick<Entry, "chunks" | "chunkPages" | "extents" | "dense"> & { readonly size: number }> {
    const file = await this.options.reader.open(path);
    try {
      const ids: Buffer[] = [];
      const whole: readonly (readonly [number, number])[] = [[0, file.size]];
      const extents: [number, number][] = [];
      let dense = false;
      let short = false;
      for (const [offset, length] of file.extents ?? whole) {
        const read = await this.storeRange(file, offset, length, ids);
        if (offset === (file.extents ?? whole)[0]?.[0]) dense = read.dense;
        this.figures.bytesRead += read.length;
        extents.push([offset, read.length]);
        if (read.length < length) {
          short = true;
          break;
        }
      }
      const end = extents.at(-1);
      const size = short && end ? end[0] + end[1] : file.size;
      if (short || file.changed()) {
        this.options.note(
          "file.changed-while-read",
          showBytes(path),
          short ? "it became shorter" : "it was written to",
        );
      }
      const { chunks, chunkPages } = this.chunkList(ids);
      return {
        size,
        chunks,
        chunkPages,
        extents: file.extents ? extents : undefined,
        dense: dense || undefined,
      };
    } finally {
      file.close();
    }
  }

  /** Reads a range of a file into windows, cuts it there and stores the chunks. */
  private async storeRange(
    file: { read: SourceReaderRead },
    offset: number,
    length: number,
    ids: Buffer[],
  ): Promise<{ length: number; dense: boolean }> {
    if (length === 0) return { length: 0, dense: false };
    const { writer } = this.options;
    const left = WINDOW_BYTES - this.used;
    let window =
      this.window && left >= Math.min(length, length <= CHUNK_MIN ? CHUNK_MIN : ROOM_TO_BEGIN)
        ? this.window
        : await this.nextWindow();
    let start = this.used;
    let end = start;
    let total = 0;
    let dense = false;
    for (;;) {
      const got = fill(file, window.bytes, end, Math.min(WINDOW_BYTES - end, length - total), offset + total);
      if (total === 0) dense = looksRandom(window.bytes.subarray(end, end + got));
      total += got;
      end += got;
      this.options.progress.bytes += got;
      this.used = end;
      const ended = total >= length || got === 0;
      while (end > start) {
        const cut = this.windows.cut(window, start, end);
        // no end of a chunk in what is here: it may come in what is read next
        if (!ended && cut === end - start && cut < CHUNK_MAX) break;
        ids.push(writer.add("data", window.bytes.subarray(start, start + cut), window));
        start += cut;
        if (this.options.signal.aborted) throw this.options.signal.reason;
      }
      if (ended) return { length: total, dense };
      const rest = window.bytes.subarray(start, end);
      window = await this.nextWindow();
      rest.copy(window.bytes);
      start = 0;
      end = rest.length;
      this.used = end;
      if (performance.now() > this.sliceEnds) await this.breathe();
    }
  }

  /** Goes on in the next free window; the one before is free again when all in it is stored. */
  private async nextWindow(): Promise<Window> {
    const before = this.window;
    let next = this.windows.take();
    if (!next) {
      const freed = this.windows.next();
      await this.options.writer.drain();
      next = await Promise.race([freed, this.options.writer.failed]);
    }
    before?.release();
    this.window = next;
    this.used = 0;
    return next;
  }

  private chunkList(ids: readonly Buffer[]): Pick<Entry, "chunks" | "chunkPages"> {
    const all = Buffer.concat(ids);
    if (ids.length <= CHUNKS_INLINE) return { chunks: all };
    const pages: Buffer[] = [];
    for (let at = 0; at < all.length; at += CHUNKS_INLINE * ID_BYTES) {
      pages.push(this.addNode(encodeChunkPage(all.subarray(at, at + CHUNKS_INLINE * ID_BYTES))));
    }
    return { chunkPages: Buffer.concat(pages) };
  }

  private metadata(item: Listed, path: ByteString): Omit<Entry, "type"> {
    const fresh = BigInt(Date.now()) * 1_000_000n - item.ctime < CLOCK_GRAIN;
    const xattrs = this.options.reader.xattrs(path);
    return {
      name: item.name,
      mode: item.mode,
      uid: item.uid,
      gid: item.gid,
      mtime: item.mtime,
      ctime: fresh ? undefined : item.ctime,
      inode: fresh ? undefined : item.inode,
      xattrs: xattrs.length ? xattrs : undefined,
    };
  }

  private addFolder(entries: readonly Entry[]): Buffer {
    const pages = pageEntries(entries);
    if (pages.length === 1) return this.addNode(encodeFolder(pages[0]!));
    const index: FolderPage[] = pages.map((page) => ({
      first: page[0]!.name,
      node: this.addNode(encodeFolder(page)),
      count: page.length,
    }));
    return this.addNode(encodePages(index));
  }

  private addNode(bytes: Buffer): Buffer {
    const id = this.options.writer.add("tree", bytes);
    this.options.keepNode(id, bytes);
    return id;
  }

  /** An unchanged folder keeps its node, its pages and the nodes of long chunk lists in it. */
  private keepOld(node: Uint8Array): void {
    this.options.keepNode(node, null);
    const content = this.options.previous!.node(node);
    if (content.kind === "pages") for (const page of content.pages) this.keepOld(page.node);
  }

  private previousEntries(node: Uint8Array | undefined): Map<ByteString, Entry> {
    const entries = new Map<ByteString, Entry>();
    const collect = (id: Uint8Array) => {
      const content = this.options.previous!.node(id);
      if (content.kind === "folder") for (const entry of content.entries) entries.set(entry.name, entry);
      else if (content.kind === "pages") for (const page of content.pages) collect(page.node);
    };
    if (node && this.options.previous) collect(node);
    return entries;
  }

  private countChange(old: Entry, now: Entry): boolean {
    if (old.chunks && now.chunks && Buffer.compare(old.chunks, now.chunks) === 0) return false;
    this.figures.changed += 1;
    if (now.dense && !old.dense) this.figures.denser += 1;
    return true;
  }

  private removedFiles(before: ReadonlyMap<ByteString, Entry>, entries: readonly Entry[]): Entry[] {
    if (before.size === 0) return [];
    const names = new Set(entries.map((entry) => entry.name));
    return [...before.values()].filter((entry) => entry.type === "file" && !names.has(entry.name));
  }

  /**
   * Counts files that came under the name of one that went, with another ending or one more: `plan.odt` that is
   * `plan.odt.x7` now, or `plan.x7`. Those that turned dense on the way are counted as such.
   */
  private countRenamed(
    gone: readonly Entry[],
    before: ReadonlyMap<ByteString, Entry>,
    entries: readonly Entry[],
  ): number {
    if (gone.length === 0) return 0;
    const come = new Map<ByteString, Entry[]>();
    for (const entry of entries) {
      if (entry.type !== "file" || before.has(entry.name)) continue;
      for (const stem of stemsOf(entry.name)) come.set(stem, [...(come.get(stem) ?? []), entry]);
    }
    let renamed = 0;
    for (const old of gone) {
      const now = come.get(old.name)?.[0] ?? stemsOf(old.name).flatMap((stem) => come.get(stem) ?? [])[0];
      if (!now) continue;
      renamed += 1;
      if (now.dense && !old.dense) this.figures.denser += 1;
    }
    this.figures.renamed += renamed;
    return renamed;
  }

  private readonly problem = (path: ByteString, error: unknown): void => {
    if (!(error instanceof CodedError)) throw error;
    this.options.note(error.code, showBytes(path), error.message);
  };

  /** Lets timers, answers and compressed blocks through. */
  private async breathe(): Promise<void> {
    await new Promise(setImmediate);
    this.sliceEnds = performance.now() + WORK_SLICE_MS;
  }
}

/** A name without its last ending, where it has one. */
const stemsOf = (name: ByteString): ByteString[] => {
  const dot = name.lastIndexOf(".");
  return dot > 0 ? [name.slice(0, dot)] : [];
};

type SourceReaderRead = (into: Buffer, at: number, length: number, position: number) => number;

function fill(
  file: { read: SourceReaderRead },
  into: Buffer,
  at: number,
  length: number,
  position: number,
): number {
  let filled = 0;
  while (filled < length) {
    const got = file.read(into, at + filled, length - filled, position + filled);
    if (got === 0) break;
    filled += got;
  }
  return filled;
}

const sameTimes = (item: Listed, old: Entry): boolean =>
  old.ctime !== undefined && item.ctime === old.ctime && item.mtime === old.mtime && item.inode === old.inode;

const SAMPLE = 1024;
const RANDOM_BITS = 7.5;

const counts = new Uint16Array(256);
/** n · log₂ n for every count that a sample can have. */
const weights = Float64Array.from({ length: SAMPLE + 1 }, (_, n) => (n ? n * Math.log2(n) : 0));

/** Whether the first bytes of a file are as random as encrypted or packed ones: Shannon entropy of up to 1 KiB. */
export function looksRandom(bytes: Uint8Array): boolean {
  const length = Math.min(SAMPLE, bytes.length);
  if (length < SAMPLE / 2) return false;
  counts.fill(0);
  for (let i = 0; i < length; i += 1) counts[bytes[i]!]! += 1;
  let sum = 0;
  for (let i = 0; i < 256; i += 1) sum += weights[counts[i]!]!;
  const bits = Math.log2(length) - sum / length;
  return bits > RANDOM_BITS - (length < SAMPLE ? 0.4 : 0);
}
