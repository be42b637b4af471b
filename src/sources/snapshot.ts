import { type Code, CodedError } from "@/core/codes";
import type { Selector } from "@/core/selection/selection";
import { outermostFolders } from "@/core/selection/selection";
import { Windows } from "@/store/cutting/windows";
import { ID_BYTES } from "@/store/identity";
import type { StoreKeys } from "@/store/keys";
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
import { beginContents, type Content, type Contents } from "./content/contents";
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
/** A file touched this lately may change again without its times telling; nanoseconds. */
const CLOCK_GRAIN = 20_000_000n;
const WORK_SLICE_MS = 10;

/**
 * Reads the chosen folders and stores them as one tree. The tree is walked ahead of the files whose content is read, and
 * walking, reading, compressing and storing overlap.
 */
export async function storeSnapshot(options: SnapshotOptions): Promise<SnapshotResult> {
  return new Snapshot(options).run();
}

interface StoredFolder {
  readonly node: Uint8Array;
  readonly entries: number;
}

/** A folder as the point before has it: its entries by name, and its nodes: one, or an index and its pages. */
interface PreviousFolder {
  readonly entries: ReadonlyMap<ByteString, Entry>;
  readonly nodes: readonly Uint8Array[];
}

/** A folder that is being walked, or whose files are being read: done when the last of its entries has come. */
class FolderUnderWay {
  readonly entries: (Entry | null)[] = [];
  /** Entries that are to come, and the walk itself. */
  private awaited = 1;

  constructor(
    readonly path: ByteString,
    readonly before: PreviousFolder,
    /** Nanoseconds since 1970, before it was listed. */
    readonly listedAt: bigint,
    private readonly done: (folder: FolderUnderWay) => void,
  ) {}

  /** Keeps a place for an entry that comes later. */
  expect(): number {
    this.awaited += 1;
    return this.entries.push(null) - 1;
  }

  fill(place: number, entry: Entry | null): void {
    this.entries[place] = entry;
    this.settle();
  }

  settle(): void {
    this.awaited -= 1;
    if (this.awaited === 0) this.done(this);
  }
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
  private readonly contents: Contents;
  private sliceEnds = 0;
  private busiest = 0;

  constructor(private readonly options: SnapshotOptions) {
    const { reader, writer, keys, progress, signal } = options;
    this.windows = Windows.lend(keys.gear);
    this.contents = beginContents({
      reader,
      writer,
      windows: this.windows,
      key: keys.chunkId,
      passed: (bytes) => {
        progress.bytes += bytes;
      },
      signal,
    });
  }

  async run(): Promise<SnapshotResult> {
    const folders = outermostFolders(this.options.folders).map((folder) =>
      Buffer.from(folder, "utf8").toString("latin1"),
    );
    const { root } = this.options.previous ?? {};
    const stored = await this.storePart("/", folders, root).finally(() => this.contents.end());
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
    if (chosen.includes(path)) return this.storeWhole(path, previous);
    const base = path === "/" ? "" : path;
    const names = [...new Set(chosen.map((folder) => folder.slice(base.length + 1).split("/")[0]!))].sort();
    const before = this.previousFolder(previous);
    const entries: Entry[] = [];
    for (const name of names) {
      const child = `${base}/${name}`;
      const below = chosen.filter((folder) => folder === child || folder.startsWith(`${child}/`));
      const lookedAt = nowNanoseconds();
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
      const stored = await this.storePart(child, below, before.entries.get(name)?.node);
      const xattrs = this.options.reader.xattrs(child);
      entries.push({ ...metadata(found, xattrs, lookedAt), type: "folder", node: stored.node });
    }
    return { node: this.addFolder(entries), entries: entries.length };
  }

  /** A folder with all that is in it, until the last of its files is read. */
  private async storeWhole(path: ByteString, previous: Uint8Array | undefined): Promise<StoredFolder> {
    let stored: StoredFolder | null = null;
    await this.walk(path, previous, (folder) => {
      stored = folder;
    });
    await this.contents.drained();
    return stored!;
  }

  /** Walks a folder and those below; `done` hears of it when its files are read too. */
  private async walk(
    path: ByteString,
    previous: Uint8Array | undefined,
    done: (stored: StoredFolder) => void,
  ): Promise<void> {
    const before = this.previousFolder(previous);
    const folder = new FolderUnderWay(path, before, nowNanoseconds(), (walked) =>
      done(this.storeFolder(walked)),
    );
    let found: Listed[] = [];
    try {
      const listing = this.options.reader.list(path, this.problem);
      found = listing instanceof Promise ? await listing : listing;
    } catch (error) {
      this.problem(path, error);
    }
    const base = path === "/" ? "" : path;
    for (const item of found) {
      if (this.options.signal.aborted) throw this.options.signal.reason;
      if (this.options.writer.crowded) await this.options.writer.room();
      if (this.contents.crowded) await this.contents.room();
      if (performance.now() > this.sliceEnds) await this.breathe();
      const under = this.storeItem(folder, item, `${base}/${item.name}`);
      if (under) await under;
    }
    folder.settle();
  }

  private storeItem(folder: FolderUnderWay, item: Listed, path: ByteString): Promise<void> | null {
    const { selector, reader, progress } = this.options;
    const old = folder.before.entries.get(item.name);
    switch (item.type) {
      case "other":
        if (selector.takesFile(showBytes(path))) this.options.note("file.special", showBytes(path), "");
        return null;
      case "folder": {
        if (!selector.takesFolder(showBytes(path))) return null;
        this.counts.folders += 1;
        progress.items += 1;
        const place = folder.expect();
        const stored = ({ node }: Pick<StoredFolder, "node">) => {
          const unchanged =
            old?.type === "folder" &&
            sameTimes(item, old) &&
            old.node &&
            Buffer.compare(old.node, node) === 0;
          folder.fill(
            place,
            unchanged
              ? old
              : { ...metadata(item, reader.xattrs(path), folder.listedAt), type: "folder", node },
          );
        };
        if (reader.passesOver(path)) {
          stored({ node: this.addFolder([]) });
          return null;
        }
        return this.walk(path, old?.type === "folder" ? old.node : undefined, stored);
      }
      case "link": {
        if (!selector.takesFile(showBytes(path))) return null;
        this.counts.links += 1;
        progress.items += 1;
        if (old?.type === "link" && sameTimes(item, old)) folder.entries.push(old);
        else
          try {
            const target = reader.target(path);
            const xattrs = reader.xattrs(path);
            folder.entries.push({ ...metadata(item, xattrs, folder.listedAt), type: "link", target });
          } catch (error) {
            this.problem(path, error);
          }
        return null;
      }
      case "file":
        return selector.takesFile(showBytes(path), item.size, item.mtime)
          ? this.storeFile(folder, item, path, old)
          : null;
    }
  }

  private storeFile(
    folder: FolderUnderWay,
    item: Listed,
    path: ByteString,
    old: Entry | undefined,
  ): Promise<void> | null {
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
      folder.entries.push(old);
      return null;
    }
    const place = folder.expect();
    return this.contents.read(path, item.size, (content) => {
      if (content instanceof CodedError) {
        this.problem(path, content);
        folder.fill(place, null);
      } else folder.fill(place, this.fileEntry(folder, item, path, content));
    });
  }

  private fileEntry(folder: FolderUnderWay, item: Listed, path: ByteString, content: Content): Entry {
    const { facts, read } = content;
    const { size, extents, dense, short, changed } = facts;
    this.figures.filesRead += 1;
    this.figures.bytesRead += read;
    this.count(size, read);
    if (short || changed) {
      const message = short ? "it became shorter" : "it was written to";
      this.options.note("file.changed-while-read", showBytes(path), message);
    }
    const { chunks, chunkPages } = this.chunkList(content.chunks);
    // written out: of very many files, copying the parts together would take a sixth of the time
    const { name, mode, uid, gid, mtime, ctime, inode, xattrs } = metadata(
      item,
      facts.xattrs,
      folder.listedAt,
    );
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
      extents: extents ?? undefined,
      sameFile: item.sameFile,
      dense: dense || undefined,
    };
  }

  /** Counts a file that is done; `told` bytes of it were told of while they were read. */
  private count(size: number, told = 0): void {
    this.counts.files += 1;
    this.counts.bytes += size;
    this.options.progress.bytes += Math.max(0, size - told);
  }

  /** A folder of which all entries have come. */
  private storeFolder({ path, before: previous, entries: places }: FolderUnderWay): StoredFolder {
    const { entries: before, nodes } = previous;
    const [node] = nodes;
    const entries = places.filter((entry) => entry !== null);
    let same = node !== undefined && entries.length === before.size;
    let changedHere = 0;
    for (const entry of before.size ? entries : []) {
      const old = before.get(entry.name);
      if (entry === old) continue;
      same = false;
      if (old?.type === "file" && entry.type === "file" && this.countChange(old, entry)) changedHere += 1;
    }
    const gone = this.removedFiles(before, entries);
    this.figures.removed += gone.length;
    changedHere += this.countRenamed(gone, before, entries);
    if (changedHere > this.busiest) {
      this.busiest = changedHere;
      this.figures.busiestFolder = showBytes(path);
    }
    if (same) for (const kept of nodes) this.options.keepNode(kept, null);
    return { node: same ? node! : this.addFolder(entries), entries: entries.length };
  }

  private chunkList(ids: Uint8Array): Pick<Entry, "chunks" | "chunkPages"> {
    if (ids.length <= CHUNKS_INLINE * ID_BYTES) return { chunks: ids, chunkPages: undefined };
    const pages: Buffer[] = [];
    for (let at = 0; at < ids.length; at += CHUNKS_INLINE * ID_BYTES) {
      pages.push(this.addNode(encodeChunkPage(ids.subarray(at, at + CHUNKS_INLINE * ID_BYTES))));
    }
    return { chunks: undefined, chunkPages: Buffer.concat(pages) };
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

  private previousFolder(node: Uint8Array | undefined): PreviousFolder {
    const entries = new Map<ByteString, Entry>();
    const nodes: Uint8Array[] = [];
    const collect = (id: Uint8Array) => {
      nodes.push(id);
      const content = this.options.previous!.node(id);
      if (content.kind === "folder") for (const entry of content.entries) entries.set(entry.name, entry);
      else if (content.kind === "pages") for (const page of content.pages) collect(page.node);
    };
    if (node && this.options.previous) collect(node);
    return { entries, nodes };
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

const nowNanoseconds = (): bigint => BigInt(Date.now()) * 1_000_000n;

/** What an entry has of a listed item. What was touched just before it was listed is not taken as known the next time. */
function metadata(item: Listed, xattrs: NonNullable<Entry["xattrs"]>, listedAt: bigint): Omit<Entry, "type"> {
  const fresh = listedAt - item.ctime < CLOCK_GRAIN;
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

const sameTimes = (item: Listed, old: Entry): boolean =>
  old.ctime !== undefined && item.ctime === old.ctime && item.mtime === old.mtime && item.inode === old.inode;
