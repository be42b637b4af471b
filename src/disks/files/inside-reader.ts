import { LRUCache } from "lru-cache";
import { CodedError } from "@/core/codes";
import { StoredDisk } from "@/store/read/disk";
import type { AtHand, ChunkReader } from "@/store/read/reader";
import { type ByteString, type Entry, encodeChunkPage, encodeFolder, type TreeNode } from "@/store/tree/tree";
import { layoutOf, type Partition } from "../partitions";
import type { FileSystem, FsItem } from "./file-system";
import { isRead, openFileSystem } from "./open";

/** Content of files is read in parts of this size; each counts as a chunk. */
const CHUNK = 1024 * 1024;
/** Longer lists of chunks lie in pages, as in the store. */
const LIST = 1024;
/** Folders that are deeper lead in a circle, or nobody finds anything there. */
const DEEPEST = 100;
const DISK_CACHE_BYTES = 16 * 1024 * 1024;
/** Entries of the folders that were read last stay in memory. */
const KEPT_ENTRIES = 300_000;
/** Items of one folder that are looked at at once. */
const AT_ONCE = 32;
const ID_BYTES = 32;
/** Ids of the store are hashes: that one begins with this happens once in 2^64. */
const MARK = Buffer.from("\0inside\x01", "latin1");

type Kind = "partitions" | "folder" | "chunk" | "page";
const KINDS: readonly Kind[] = ["partitions", "folder", "chunk", "page"];

/** What an id of ours says. */
interface Named {
  readonly kind: Kind;
  /** The number of the disk among those of the root, and the partition's in its table. */
  readonly disk: number;
  readonly partition: number;
  readonly depth: number;
  readonly item: number;
  /** Of a chunk or page, its number in the file. */
  readonly index: number;
  /** What it was made from: two that differ in it may contain something else. */
  readonly version: number;
}

function idOf({ kind, disk, partition, depth, item, index, version }: Named): Buffer {
  const id = Buffer.alloc(ID_BYTES);
  MARK.copy(id);
  id[8] = KINDS.indexOf(kind);
  id[9] = disk;
  id[10] = partition;
  id[11] = depth;
  id.writeUIntBE(item, 12, 6);
  id.writeUIntBE(index, 18, 6);
  id.writeUIntBE(version, 24, 6);
  return id;
}
function named(id: Uint8Array): Named | null {
  const bytes = Buffer.from(id.buffer, id.byteOffset, id.byteLength);
  if (bytes.length !== ID_BYTES || bytes.compare(MARK, 0, MARK.length, 0, MARK.length) !== 0) return null;
  const kind = KINDS[bytes[8]!];
  return kind
    ? {
        kind,
        disk: bytes[9]!,
        partition: bytes[10]!,
        depth: bytes[11]!,
        item: bytes.readUIntBE(12, 6),
        index: bytes.readUIntBE(18, 6),
        version: bytes.readUIntBE(24, 6),
      }
    : null;
}

/** A number of 48 bits that tells two contents apart as well as times and lengths do. */
function versionOf(...values: readonly bigint[]): number {
  let mixed = 0xcbf29ce484222325n;
  for (const value of values) mixed = BigInt.asUintN(64, (mixed ^ value) * 0x100000001b3n);
  return Number(mixed >> 16n);
}

/** The name of the folder that shows what is inside a disk's file. */
const FILE = /^(.+)\.raw$/;
export const partitionFolder = ({ number }: Pick<Partition, "number">): string =>
  number === 0 ? "whole-disk" : `partition-${number}`;

interface OpenDisk {
  readonly name: ByteString;
  readonly entry: Entry;
  readonly disk: StoredDisk;
  readonly partitions: readonly Partition[];
  readonly version: number;
}

/**
 * A recovery point with disks as one whose disks are folders of partitions, and those the folders of their file systems:
 * `/vda.raw` is seen as `/vda/partition-1/etc/hosts` too. Whatever browses, searches or downloads a tree works there as it is.
 * Nodes and chunks are made when they are asked for; their ids say from what.
 */
export class InsideReader implements ChunkReader {
  private disks: Promise<readonly OpenDisk[]> | null = null;
  private readonly systems = new LRUCache<string, Promise<FileSystem>>({ max: 16 });
  private readonly folders = new LRUCache<string, TreeNode>({
    maxSize: KEPT_ENTRIES,
    sizeCalculation: (node) => 1 + (node.kind === "folder" ? node.entries.length : 0),
  });

  constructor(
    private readonly base: ChunkReader,
    private readonly root: Uint8Array,
  ) {}

  async node(id: Uint8Array): Promise<TreeNode> {
    const what = named(id);
    if (!what) {
      const node = await this.base.node(id);
      return Buffer.compare(id, this.root) === 0 ? this.withDisks(node) : node;
    }
    switch (what.kind) {
      case "partitions":
        return { kind: "folder", entries: await this.partitionsOf(what) };
      case "folder":
        return this.folder(what, id);
      case "page":
        return { kind: "chunks", ids: await this.chunkIds(what, what.index * LIST) };
      default:
        throw new CodedError("store.damaged", "content where a folder was expected");
    }
  }

  async chunk(id: Uint8Array): Promise<Buffer> {
    const what = named(id);
    if (!what) return this.base.chunk(id);
    const system = await this.system(what);
    const bytes = await system.read(what.item, what.index * CHUNK, CHUNK);
    const wanted = Math.min(CHUNK, (await system.item(what.item)).size - what.index * CHUNK);
    if (bytes.length !== wanted)
      throw new CodedError("file.unreadable", "the file is shorter than its folder says");
    return bytes;
  }

  async length(id: Uint8Array): Promise<number> {
    const what = named(id);
    if (!what) return this.base.length(id);
    const { size } = await (await this.system(what)).item(what.item);
    return Math.min(CHUNK, size - what.index * CHUNK);
  }

  async rawNode(id: Uint8Array): Promise<Buffer> {
    if (!named(id)) return this.base.rawNode(id);
    const node = await this.node(id);
    if (node.kind === "folder") return encodeFolder(node.entries);
    if (node.kind === "chunks") return encodeChunkPage(node.ids);
    throw new CodedError("store.damaged", "a node of an unknown kind");
  }

  locate(ids: readonly Uint8Array[]): Promise<void> {
    const stored = ids.filter((id) => !named(id));
    return stored.length ? this.base.locate(stored) : Promise.resolve();
  }
  atHand = (id: Uint8Array): AtHand | null => (named(id) ? null : this.base.atHand(id));
  soon = (id: Uint8Array): Promise<void> | null => (named(id) ? null : this.base.soon(id));

  private async withDisks(node: TreeNode): Promise<TreeNode> {
    if (node.kind !== "folder") return node;
    const disks = await this.opened();
    const folders = disks
      .map(({ name, entry, partitions, version }, disk) => ({ name, entry, partitions, version, disk }))
      .filter(
        ({ name, partitions }) => partitions.length > 0 && !node.entries.some((one) => one.name === name),
      )
      .map(({ name, entry, version, disk }): Entry => {
        const { mode: _mode, uid, gid, mtime } = entry;
        return {
          name,
          type: "folder",
          mode: 0o755,
          uid,
          gid,
          mtime,
          node: idOf({ kind: "partitions", disk, partition: 0, depth: 0, item: 0, index: 0, version }),
        };
      });
    return { kind: "folder", entries: sorted([...node.entries, ...folders]) };
  }

  /** The disks of the root, each with the partitions whose files can be read. */
  private opened(): Promise<readonly OpenDisk[]> {
    this.disks ??= this.open();
    this.disks.catch(() => {
      this.disks = null;
    });
    return this.disks;
  }

  private async open(): Promise<OpenDisk[]> {
    const node = await this.base.node(this.root);
    const disks: OpenDisk[] = [];
    for (const entry of node.kind === "folder" ? node.entries : []) {
      const name = entry.chunkBytes ? FILE.exec(entry.name)?.[1] : undefined;
      if (!name) continue;
      const disk = await StoredDisk.open(this.base, entry, DISK_CACHE_BYTES);
      const { partitions } = await layoutOf(disk);
      const ids = Buffer.from(entry.chunkPages ?? entry.chunks ?? []);
      const words: bigint[] = [];
      for (let at = 0; at + 8 <= ids.length; at += ID_BYTES) words.push(ids.readBigUInt64BE(at));
      disks.push({
        name,
        entry,
        disk,
        partitions: partitions.filter(({ fileSystem, number }) => isRead(fileSystem) && number < 256),
        version: versionOf(...words),
      });
    }
    return disks;
  }

  private async diskOf({ disk }: Named): Promise<OpenDisk> {
    const found = (await this.opened())[disk];
    if (!found) throw new CodedError("store.damaged", "a disk that is not there");
    return found;
  }

  private async partitionsOf(what: Named): Promise<Entry[]> {
    const { partitions, entry, version } = await this.diskOf(what);
    return sorted(
      await Promise.all(
        partitions.map(async (partition): Promise<Entry> => {
          const of = { ...what, partition: partition.number };
          const { root } = await this.system(of);
          return {
            name: partitionFolder(partition),
            type: "folder",
            mode: 0o755,
            uid: entry.uid,
            gid: entry.gid,
            mtime: entry.mtime,
            node: idOf({ ...of, kind: "folder", depth: 1, item: root, version }),
          };
        }),
      ),
    );
  }

  private async system(what: Named): Promise<FileSystem> {
    const key = `${what.disk} ${what.partition}`;
    const kept = this.systems.get(key);
    if (kept) return kept;
    const { disk, partitions } = await this.diskOf(what);
    const partition = partitions.find(({ number }) => number === what.partition);
    if (!partition) throw new CodedError("store.damaged", "a partition that is not there");
    const system = openFileSystem(disk, partition);
    this.systems.set(key, system);
    system.catch(() => this.systems.delete(key));
    return system;
  }

  private async folder(what: Named, id: Uint8Array): Promise<TreeNode> {
    const key = Buffer.from(id).toString("latin1");
    const kept = this.folders.get(key);
    if (kept) return kept;
    const made = await this.makeFolder(what);
    this.folders.set(key, made);
    return made;
  }

  private async makeFolder(what: Named): Promise<TreeNode> {
    const system = await this.system(what);
    const names = await system.list(what.item);
    const entries: Entry[] = [];
    const { self } = await system.folder(what.item);
    /** Folders that are here already, by what they are known by: each is in one place. */
    const seen = new Set<number>();
    for (let at = 0; at < names.length; at += AT_ONCE) {
      const made = await Promise.all(
        names.slice(at, at + AT_ONCE).map(({ name, id }) => this.entry(system, what, name, id, self, seen)),
      );
      entries.push(...made.filter((entry) => entry !== null));
    }
    return { kind: "folder", entries: sorted(entries) };
  }

  /** An entry of a folder; null for what is no file, folder or link, or is damaged. */
  private async entry(
    system: FileSystem,
    folder: Named,
    name: ByteString,
    id: number,
    self: number,
    seen: Set<number>,
  ): Promise<Entry | null> {
    let item: FsItem;
    try {
      item = await system.item(id);
      const { mode, uid, gid, mtime, size, type } = item;
      const facts = { name, mode, uid, gid, mtime };
      if (type === "link") return { ...facts, type, target: await system.target(id) };
      if (type === "folder") {
        const depth = folder.depth + 1;
        const place = await system.folder(id);
        if (depth > DEEPEST || place.parent !== self || place.self === self || seen.has(place.self))
          return null;
        seen.add(place.self);
        return { ...facts, type, node: idOf({ ...folder, kind: "folder", depth, item: id, index: 0 }) };
      }
      if (type !== "file") return null;
      const version = versionOf(mtime, BigInt(size));
      const of: Named = { ...folder, depth: 0, item: id, index: 0, version, kind: "chunk" };
      const chunks = Math.ceil(size / CHUNK);
      if (chunks <= LIST) return { ...facts, type, size, chunks: await this.chunkIds(of, 0) };
      const pages = Array.from({ length: Math.ceil(chunks / LIST) }, (_, index) =>
        idOf({ ...of, kind: "page", index }),
      );
      return { ...facts, type, size, chunkPages: Buffer.concat(pages) };
    } catch (error) {
      if (error instanceof CodedError && error.code === "file.unreadable") return null;
      throw error;
    }
  }

  private async chunkIds(what: Named, first: number): Promise<Buffer> {
    const { size } = await (await this.system(what)).item(what.item);
    const after = Math.min(Math.ceil(size / CHUNK), first + LIST);
    const ids: Buffer[] = [];
    for (let index = first; index < after; index += 1) ids.push(idOf({ ...what, kind: "chunk", index }));
    return Buffer.concat(ids);
  }
}

/** In the order of the store, each name once. */
const sorted = (entries: readonly Entry[]): Entry[] =>
  [...entries]
    .sort((a, b) => (a.name < b.name ? -1 : a.name > b.name ? 1 : 0))
    .filter((entry, i, all) => i === 0 || all[i - 1]!.name !== entry.name);

/** Whether a path leads into a disk: its first folder is none that is stored. */
export async function leadsInside(reader: ChunkReader, root: Uint8Array, path: ByteString): Promise<boolean> {
  const [, first = ""] = path.split("/");
  if (first === "") return false;
  const node = await reader.node(root);
  return (
    node.kind === "folder" &&
    !node.entries.some(({ name }) => name === first) &&
    node.entries.some(({ name, chunkBytes }) => chunkBytes && FILE.exec(name)?.[1] === first)
  );
}
