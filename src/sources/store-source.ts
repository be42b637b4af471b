import { type Code, CodedError } from "@/core/codes";
import type { Selector } from "@/core/selection/selection";
import { outermostFolders } from "@/core/selection/selection";
import { Windows } from "@/store/cutting/windows";
import { sameContent } from "@/store/read/browse";
import { ID_BYTES } from "@/store/seal/identity";
import type { StoreKeys } from "@/store/seal/keys";
import { FolderNodes } from "@/store/tree/folder-nodes";
import { KnownFolder } from "@/store/tree/known-folder";
import type { PointCounts } from "@/store/tree/point";
import { type ByteString, type Entry, encodeChunkPage, encodeEntry, showBytes } from "@/store/tree/tree";
import type { StoreWriter } from "@/store/write/writer";
import { beginContents, type Content, type Contents } from "./content/contents";
import { diskBefore, readDisk } from "./content/disk";
import { type Listed, type Listing, nowNanoseconds, type SourceReader } from "./reader";

/** The tree of the recovery point before, for telling what is unchanged. */
export interface PreviousTree {
  readonly root: Uint8Array;
  /** The bytes of a node. */
  bytes(id: Uint8Array): Uint8Array;
}

export interface StoringProgress {
  items: number;
  /** Bytes of the files passed, read or not. */
  bytes: number;
  /** Of these, so many were not read: their files are unchanged. */
  unread?: number;
}

export interface StoringOptions {
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
  readonly progress: StoringProgress;
  readonly signal: AbortSignal;
}

export interface StoringFigures {
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

export interface StoringResult {
  readonly root: Uint8Array;
  readonly counts: PointCounts;
  readonly figures: StoringFigures;
}

const CHUNKS_INLINE = 1024;
/** A file touched this lately may change again without its times telling; nanoseconds. */
const CLOCK_GRAIN = 20_000_000n;
const WORK_SLICE_MS = 10;

/**
 * Reads the chosen folders and stores them as one tree. The tree is walked ahead of the files whose content is read, and
 * walking, reading, compressing and storing overlap.
 */
export async function storeSource(options: StoringOptions): Promise<StoringResult> {
  return new Snapshot(options).run();
}

/** A file as the evidence needs it. */
interface Seen {
  readonly name: ByteString;
  readonly dense: boolean;
}

const seenIn = ({ name, dense }: Entry): Seen => ({ name, dense: dense === true });
/** Of so many files of a folder, the names that went are held against those that came. */
const MOST_SEEN = 50_000;

/** An entry that is not there yet, or waits for one before it; null for what could not be read. */
interface Place {
  readonly name: ByteString;
  bytes: Buffer | null | undefined;
}

/**
 * A folder that is being walked, or whose files are being read: done when the last of its entries has come. Those that have
 * come, up to the first that is still to come, are encoded already.
 */
class FolderUnderWay {
  readonly known: KnownFolder;
  /** Nothing in it differs from what is known. */
  same: boolean;
  /** Files that differ in their content. */
  changed = 0;
  removed = 0;
  /** Files that are gone, and those of new names where the folder was known; of very many the first. */
  readonly gone: Seen[] = [];
  readonly come: Seen[] = [];
  private places: Place[] = [];
  private first = 0;
  private walked = false;

  constructor(
    readonly path: ByteString,
    bytesOf: PreviousTree["bytes"],
    node: Uint8Array | undefined,
    /** Nanoseconds since 1970, before it was listed. */
    readonly listedAt: bigint,
    private readonly nodes: FolderNodes,
    private readonly done: (folder: FolderUnderWay) => void,
  ) {
    this.known = new KnownFolder(bytesOf, node, (known) => {
      this.same = false;
      if (known.type !== "file") return;
      this.removed += 1;
      if (this.gone.length < MOST_SEEN) this.gone.push(seenIn(known.entry()));
    });
    this.same = !this.known.empty;
  }

  /** Takes over the entry that is known, as it is. */
  keep(): void {
    const { name, memory, begin, end } = this.known;
    if (this.places.length === 0) this.nodes.add(name, memory, begin, end);
    else this.places.push({ name, bytes: this.known.bytes() });
  }

  /** Keeps a place for an entry that comes later. */
  expect(name: ByteString): Place {
    const place = { name, bytes: undefined };
    this.places.push(place);
    return place;
  }

  fill(place: Place, bytes: Buffer | null): void {
    place.bytes = bytes;
    while (this.first < this.places.length) {
      const { name, bytes: ready } = this.places[this.first]!;
      if (ready === undefined) break;
      if (ready) this.nodes.add(name, ready);
      this.first += 1;
    }
    if (this.first === this.places.length || this.first >= PLACES_PASSED) {
      this.places = this.places.slice(this.first);
      this.first = 0;
    }
    this.settle();
  }

  /** All that is in it was come to. */
  end(): void {
    this.known.finish();
    this.walked = true;
    this.settle();
  }

  /** The node of all its entries. */
  store(): Uint8Array {
    return this.nodes.end();
  }

  private settle(): void {
    if (this.walked && this.places.length === 0) this.done(this);
  }
}

/** So many places of a large folder that have passed are let go of at once. */
const PLACES_PASSED = 1024;

class Snapshot {
  private readonly counts = { files: 0, folders: 0, links: 0, bytes: 0 };
  private readonly figures: StoringFigures = {
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

  constructor(private readonly options: StoringOptions) {
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

  async run(): Promise<StoringResult> {
    const folders = outermostFolders(this.options.folders).map((folder) =>
      Buffer.from(folder, "utf8").toString("latin1"),
    );
    const { root } = this.options.previous ?? {};
    const node = await this.storePart("/", folders, root).finally(() => {
      this.contents.end();
      return this.options.reader.end?.();
    });
    await this.options.writer.flush();
    this.windows.giveBack();
    return { root: node, counts: this.counts, figures: this.figures };
  }

  /** A folder on the way to the chosen ones, or a chosen one itself. */
  private async storePart(
    path: ByteString,
    chosen: readonly ByteString[],
    previous: Uint8Array | undefined,
  ): Promise<Uint8Array> {
    if (chosen.includes(path)) return this.storeWhole(path, previous);
    const base = path === "/" ? "" : path;
    const names = [...new Set(chosen.map((folder) => folder.slice(base.length + 1).split("/")[0]!))].sort();
    const known = new KnownFolder(this.bytesOf, previous, () => {});
    const nodes = this.folderNodes();
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
      const before = known.moveTo(name) ? known.node : undefined;
      const node = await this.storePart(child, below, before);
      const xattrs = this.options.reader.xattrs(child);
      nodes.add(name, encodeEntry({ ...metadata(found, xattrs, lookedAt), type: "folder", node }));
    }
    return nodes.end();
  }

  /** A folder with all that is in it, until the last of its files is read. */
  private async storeWhole(path: ByteString, previous: Uint8Array | undefined): Promise<Uint8Array> {
    let stored: Uint8Array | null = null;
    await this.walk(path, previous, (node) => {
      stored = node;
    });
    await this.contents.drained();
    return stored!;
  }

  /** Walks a folder and those below; `done` hears of its node when its files are read too. */
  private async walk(
    path: ByteString,
    previous: Uint8Array | undefined,
    done: (node: Uint8Array) => void,
  ): Promise<void> {
    let listing: Listing = { at: 0n, items: [] };
    try {
      const listed = this.options.reader.list(path, this.problem);
      listing = listed instanceof Promise ? await listed : listed;
    } catch (error) {
      this.problem(path, error);
    }
    const folder = new FolderUnderWay(
      path,
      this.bytesOf,
      previous,
      listing.at,
      this.folderNodes(),
      (walked) => done(this.storeFolder(walked)),
    );
    const base = path === "/" ? "" : path;
    for (const item of listing.items) {
      if (this.options.signal.aborted) throw this.options.signal.reason;
      if (this.options.writer.crowded) await this.options.writer.room();
      if (this.contents.crowded) await this.contents.room();
      if (performance.now() > this.sliceEnds) await this.breathe();
      const under = this.storeItem(folder, item, `${base}/${item.name}`);
      if (under) await under;
    }
    folder.end();
  }

  private storeItem(folder: FolderUnderWay, item: Listed, path: ByteString): Promise<void> | null {
    const { selector, progress } = this.options;
    const known = folder.known.moveTo(item.name);
    switch (item.type) {
      case "other":
        if (selector.takesFile(showBytes(path))) this.options.note("file.special", showBytes(path), "");
        folder.same &&= !known;
        return null;
      case "folder":
        if (selector.takesFolder(showBytes(path))) return this.storeSubfolder(folder, item, path, known);
        break;
      case "link":
        if (selector.takesFile(showBytes(path))) {
          this.counts.links += 1;
          progress.items += 1;
          this.storeLink(folder, item, path, known);
          return null;
        }
        break;
      case "file":
        if (selector.takesFile(showBytes(path), item.size, item.mtime)) {
          progress.items += 1;
          return this.storeFile(folder, item, path, known);
        }
    }
    // it is left out now
    folder.same &&= !known;
    return null;
  }

  private storeSubfolder(
    folder: FolderUnderWay,
    item: Listed,
    path: ByteString,
    isKnown: boolean,
  ): Promise<void> | null {
    const { reader, progress } = this.options;
    this.counts.folders += 1;
    progress.items += 1;
    const place = folder.expect(item.name);
    const { known } = folder;
    const before = isKnown && known.type === "folder" ? known.node : undefined;
    const old = before && sameTimes(item, known) ? known.bytes() : null;
    const stored = (node: Uint8Array) => {
      if (old && Buffer.compare(before!, node) === 0) {
        folder.fill(place, old);
        return;
      }
      folder.same = false;
      const facts = metadata(item, reader.xattrs(path), folder.listedAt);
      folder.fill(place, encodeEntry({ ...facts, type: "folder", node }));
    };
    if (!reader.passesOver(path)) return this.walk(path, before, stored);
    stored(this.folderNodes().end());
    return null;
  }

  private storeLink(folder: FolderUnderWay, item: Listed, path: ByteString, known: boolean): void {
    if (known && folder.known.type === "link" && sameTimes(item, folder.known)) {
      folder.keep();
      return;
    }
    folder.same = false;
    const { reader } = this.options;
    try {
      const target = reader.target(path);
      const facts = metadata(item, reader.xattrs(path), folder.listedAt);
      folder.fill(
        folder.expect(item.name),
        encodeEntry({ ...facts, type: "link", target, sameFile: item.sameFile }),
      );
    } catch (error) {
      this.problem(path, error);
    }
  }

  private storeFile(
    folder: FolderUnderWay,
    item: Listed,
    path: ByteString,
    isKnown: boolean,
  ): Promise<void> | null {
    const { known } = folder;
    const wasFile = isKnown && known.type === "file";
    if (
      wasFile &&
      !this.options.readAll &&
      (item.roughSize || known.size === item.size) &&
      sameTimes(item, known) &&
      known.sameFile === item.sameFile
    ) {
      const { progress } = this.options;
      this.figures.filesUnchanged += 1;
      this.count(known.size ?? item.size);
      progress.unread = (progress.unread ?? 0) + (known.size ?? item.size);
      folder.keep();
      return null;
    }
    folder.same = false;
    const old = wasFile ? known.entry() : null;
    const isNew = !isKnown && !known.empty;
    const place = folder.expect(item.name);
    if (item.disk) return this.storeDisk(folder, item, path, old, place);
    return this.contents.read(path, item.size, (content) => {
      if (content instanceof CodedError) {
        this.problem(path, content);
        folder.fill(place, null);
        return;
      }
      const entry = this.fileEntry(folder, item, path, content);
      if (old) this.countChange(folder, old, entry);
      if (isNew && folder.come.length < MOST_SEEN) folder.come.push(seenIn(entry));
      folder.fill(place, encodeEntry(entry));
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

  private async storeDisk(
    folder: FolderUnderWay,
    item: Listed,
    path: ByteString,
    old: Entry | null,
    place: Place,
  ): Promise<void> {
    const { reader, writer, keys, progress, signal } = this.options;
    const disk = await reader.openDisk!(path);
    try {
      const { chunks: ids, ...facts } = await readDisk({
        disk,
        old: old && diskBefore(old, this.bytesOf),
        readAll: this.options.readAll ?? false,
        writer,
        windows: this.windows,
        key: keys.chunkId,
        passed: (bytes, read) => {
          progress.bytes += bytes;
          if (!read) progress.unread = (progress.unread ?? 0) + bytes;
        },
        signal,
      });
      const { size, chunkBytes, extents, read } = facts;
      this.figures.bytesRead += read;
      if (read > 0) this.figures.filesRead += 1;
      else this.figures.filesUnchanged += 1;
      this.count(size, size);
      const entry: Entry = {
        ...metadata(item, [], folder.listedAt),
        type: "file",
        size,
        chunkBytes,
        extents: extents ?? undefined,
        ...this.chunkList(ids),
      };
      if (old) this.countChange(folder, old, entry);
      folder.fill(place, encodeEntry(entry));
    } finally {
      disk.close();
    }
  }

  /** Counts a file that is done; `told` bytes of it were told of while they were read. */
  private count(size: number, told = 0): void {
    this.counts.files += 1;
    this.counts.bytes += size;
    this.options.progress.bytes += Math.max(0, size - told);
  }

  /** A folder of which all entries have come. */
  private storeFolder(folder: FolderUnderWay): Uint8Array {
    const { known, same } = folder;
    this.figures.removed += folder.removed;
    const changed = folder.changed + this.countRenamed(folder.gone, folder.come);
    if (changed > this.busiest) {
      this.busiest = changed;
      this.figures.busiestFolder = showBytes(folder.path);
    }
    if (!same) return folder.store();
    for (const node of known.nodes) this.options.keepNode(node, null);
    return known.nodes[0]!;
  }

  private chunkList(ids: Uint8Array): Pick<Entry, "chunks" | "chunkPages"> {
    if (ids.length <= CHUNKS_INLINE * ID_BYTES) return { chunks: ids, chunkPages: undefined };
    const pages: Buffer[] = [];
    for (let at = 0; at < ids.length; at += CHUNKS_INLINE * ID_BYTES) {
      pages.push(this.addNode(encodeChunkPage(ids.subarray(at, at + CHUNKS_INLINE * ID_BYTES))));
    }
    return { chunks: undefined, chunkPages: Buffer.concat(pages) };
  }

  private folderNodes(): FolderNodes {
    return new FolderNodes(this.addNode);
  }

  private readonly addNode = (bytes: Buffer): Buffer => {
    const id = this.options.writer.add("tree", bytes);
    this.options.keepNode(id, bytes);
    return id;
  };

  private readonly bytesOf = (id: Uint8Array): Uint8Array => this.options.previous!.bytes(id);

  private countChange(folder: FolderUnderWay, old: Entry, now: Entry): void {
    if (sameContent(old, now)) return;
    folder.changed += 1;
    this.figures.changed += 1;
    if (now.dense && !old.dense) this.figures.denser += 1;
  }

  /**
   * Counts files that came under the name of one that went, with another ending or one more: `plan.odt` that is
   * `plan.odt.x7` now, or `plan.x7`. Those that turned dense on the way are counted as such.
   */
  private countRenamed(gone: readonly Seen[], newOnes: readonly Seen[]): number {
    if (gone.length === 0) return 0;
    const come = new Map<ByteString, Seen[]>();
    for (const seen of newOnes)
      for (const stem of stemsOf(seen.name)) come.set(stem, [...(come.get(stem) ?? []), seen]);
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

const sameTimes = (item: Listed, old: Pick<Entry, "mtime" | "ctime" | "inode">): boolean =>
  old.ctime !== undefined && item.ctime === old.ctime && item.mtime === old.mtime && item.inode === old.inode;
