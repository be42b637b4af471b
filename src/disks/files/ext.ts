import { LRUCache } from "lru-cache";
import {
  exactly,
  type FileSystem,
  type FsItem,
  type FsName,
  fromStretches,
  MOST_ENTRIES,
  MOST_FOLDER_BYTES,
  MOST_LINK_BYTES,
  type Stretch,
  unreadable,
  type Volume,
} from "./file-system";

/** ext2, ext3 and ext4. Source: the kernel's documentation of the on-disk format (filesystems/ext4). */

const INCOMPATIBLE = {
  metaBlockGroups: 0x10,
  extents: 0x40,
  bits64: 0x80,
} as const;
/** Features that do not hinder reading: file types, recovery, extents, 64 bits, flexible groups, checksum seed, large folders, inline data, case folding. */
const KNOWN = 0x2 | 0x4 | 0x40 | 0x80 | 0x200 | 0x2000 | 0x4000 | 0x8000 | 0x20000;
const FLAG = { encrypted: 0x800, extents: 0x80000, inline: 0x10000000 } as const;
const TYPES: Readonly<Record<number, FsItem["type"]>> = { 4: "folder", 8: "file", 10: "link" };
const EXTENT_MAGIC = 0xf30a;
/** Longer extents are reserved and not written yet. */
const WRITTEN_MOST = 32768;
const EXTENT_DEPTH = 5;
/** Stretches of one file. */
const MOST_STRETCHES = 200_000;
const ROOT = 2;

interface Inode extends FsItem {
  readonly flags: number;
  /** What leads to the content: extents or block numbers, or the content itself. */
  readonly block: Buffer;
}

export class ExtFileSystem implements FileSystem {
  readonly root = ROOT;
  private readonly inodes = new LRUCache<number, Promise<Inode>>({ max: 4096 });
  private readonly contents = new LRUCache<number, Promise<readonly Stretch[]>>({ max: 32 });

  private constructor(
    private readonly volume: Volume,
    private readonly blockBytes: number,
    private readonly inodesPerGroup: number,
    private readonly inodeBytes: number,
    private readonly inodeCount: number,
    private readonly descriptorBytes: number,
    private readonly descriptorsAt: number,
  ) {}

  static async open(volume: Volume): Promise<ExtFileSystem> {
    const block = await exactly(volume, 1024, 1024);
    if (block.readUInt16LE(0x38) !== 0xef53) throw unreadable("no ext file system");
    const incompatible = block.readUInt32LE(0x60);
    const unknown = incompatible & ~KNOWN;
    if (unknown)
      throw unreadable(`an ext file system with features that are not read (0x${unknown.toString(16)})`);
    const logBlock = block.readUInt32LE(0x18);
    if (logBlock > 6) throw unreadable("an ext file system with impossible blocks");
    const blockBytes = 1024 << logBlock;
    const hasRevision = block.readUInt32LE(0x4c) > 0;
    const inodeBytes = hasRevision ? block.readUInt16LE(0x58) : 128;
    const inodesPerGroup = block.readUInt32LE(0x28);
    if (inodesPerGroup === 0 || inodeBytes < 128 || inodeBytes > blockBytes || inodeBytes & (inodeBytes - 1))
      throw unreadable("an ext file system with an impossible table of inodes");
    const descriptorBytes = incompatible & INCOMPATIBLE.bits64 ? Math.max(32, block.readUInt16LE(0xfe)) : 32;
    return new ExtFileSystem(
      volume,
      blockBytes,
      inodesPerGroup,
      inodeBytes,
      block.readUInt32LE(0),
      descriptorBytes,
      (block.readUInt32LE(0x14) + 1) * blockBytes,
    );
  }

  item = (id: number): Promise<Inode> => this.inode(id);

  private inode(id: number): Promise<Inode> {
    const kept = this.inodes.get(id);
    if (kept) return kept;
    const read = this.readInode(id);
    this.inodes.set(id, read);
    read.catch(() => this.inodes.delete(id));
    return read;
  }

  private async readInode(id: number): Promise<Inode> {
    if (!Number.isSafeInteger(id) || id < 1 || id > this.inodeCount)
      throw unreadable(`there is no inode ${id}`);
    const group = Math.floor((id - 1) / this.inodesPerGroup);
    const descriptor = await exactly(
      this.volume,
      this.descriptorsAt + group * this.descriptorBytes,
      this.descriptorBytes,
    );
    const high = this.descriptorBytes >= 64 ? descriptor.readUInt32LE(0x28) : 0;
    const table = (high * 2 ** 32 + descriptor.readUInt32LE(8)) * this.blockBytes;
    const bytes = await exactly(
      this.volume,
      table + ((id - 1) % this.inodesPerGroup) * this.inodeBytes,
      this.inodeBytes,
    );
    const mode = bytes.readUInt16LE(0);
    const type = TYPES[mode >> 12] ?? "other";
    const size = bytes.readUInt32LE(4) + (type === "link" ? 0 : bytes.readUInt32LE(0x6c) * 2 ** 32);
    const hasExtra = this.inodeBytes >= 160 && bytes.readUInt16LE(0x80) >= 12;
    const extra = hasExtra ? bytes.readUInt32LE(0x88) : 0;
    const seconds = bytes.readInt32LE(0x10) + (extra & 3) * 2 ** 32;
    if (!Number.isSafeInteger(size)) throw unreadable(`inode ${id} claims an impossible length`);
    return {
      type,
      size,
      mtime: BigInt(seconds) * 1_000_000_000n + BigInt(Math.min(999_999_999, extra >>> 2)),
      mode: mode & 0o7777,
      uid: bytes.readUInt16LE(2) + bytes.readUInt16LE(0x78) * 2 ** 16,
      gid: bytes.readUInt16LE(0x18) + bytes.readUInt16LE(0x7a) * 2 ** 16,
      flags: bytes.readUInt32LE(0x20),
      block: Buffer.from(bytes.subarray(0x28, 0x64)),
    };
  }

  async read(id: number, offset: number, length: number): Promise<Buffer> {
    const inode = await this.inode(id);
    const wanted = Math.max(0, Math.min(length, inode.size - offset));
    if (wanted === 0) return Buffer.alloc(0);
    if (inode.flags & FLAG.encrypted) throw unreadable("the file is encrypted by its file system");
    if (inode.flags & FLAG.inline) {
      if (inode.size > inode.block.length)
        throw unreadable("the content lies in attributes, which are not read");
      return Buffer.from(inode.block.subarray(offset, offset + wanted));
    }
    return fromStretches(this.volume, await this.stretches(id, inode), offset, wanted);
  }

  async target(id: number): Promise<string> {
    const inode = await this.inode(id);
    if (inode.type !== "link" || inode.size > MOST_LINK_BYTES) throw unreadable(`inode ${id} is no link`);
    const isInside = inode.size < inode.block.length && !(inode.flags & FLAG.extents);
    const bytes = isInside ? inode.block.subarray(0, inode.size) : await this.read(id, 0, inode.size);
    return bytes.toString("latin1");
  }

  async folder(id: number): Promise<{ self: number; parent: number }> {
    const inode = await this.inode(id);
    const isInline = (inode.flags & FLAG.inline) > 0;
    const bytes = isInline ? inode.block : await this.read(id, 0, 24);
    if (inode.type !== "folder" || bytes.length < 24) throw unreadable(`inode ${id} is no folder`);
    // its second entry is that of its parent
    return { self: id, parent: bytes.readUInt32LE(isInline ? 0 : 12) };
  }

  async list(id: number): Promise<FsName[]> {
    const inode = await this.inode(id);
    if (inode.type !== "folder") throw unreadable(`inode ${id} is no folder`);
    if (inode.flags & FLAG.encrypted) throw unreadable("the folder is encrypted by its file system");
    if (inode.size > MOST_FOLDER_BYTES) throw unreadable("the folder claims an impossible length");
    // in line: the number of the parent, then entries
    const bytes = inode.flags & FLAG.inline ? inode.block.subarray(4) : await this.read(id, 0, inode.size);
    const step = inode.flags & FLAG.inline ? bytes.length : this.blockBytes;
    const names: FsName[] = [];
    for (let block = 0; block < bytes.length; block += step)
      for (let at = block; at + 8 <= Math.min(block + step, bytes.length); ) {
        const child = bytes.readUInt32LE(at);
        const record = bytes.readUInt16LE(at + 4);
        const length = bytes[at + 6]!;
        if (record < 8 || at + record > bytes.length || 8 + length > record) break;
        const name = bytes.toString("latin1", at + 8, at + 8 + length);
        if (child > 0 && length > 0 && name !== "." && name !== ".." && !/[/\0]/.test(name))
          names.push({ name, id: child });
        if (names.length > MOST_ENTRIES) throw unreadable("the folder claims too many entries");
        at += record;
      }
    return names;
  }

  private stretches(id: number, inode: Inode): Promise<readonly Stretch[]> {
    const kept = this.contents.get(id);
    if (kept) return kept;
    const found = inode.flags & FLAG.extents ? this.fromExtents(inode) : this.fromBlocks(inode);
    this.contents.set(id, found);
    found.catch(() => this.contents.delete(id));
    return found;
  }

  private async fromExtents({ block }: Inode): Promise<Stretch[]> {
    const stretches: Stretch[] = [];
    const seen = new Set<number>();
    const walk = async (node: Buffer, depth: number): Promise<void> => {
      if (node.readUInt16LE(0) !== EXTENT_MAGIC || depth > EXTENT_DEPTH)
        throw unreadable("a damaged list of extents");
      const count = Math.min(node.readUInt16LE(2), Math.floor((node.length - 12) / 12));
      const isLeaf = node.readUInt16LE(6) === 0;
      for (let i = 0; i < count; i += 1) {
        const entry = node.subarray(12 + 12 * i, 24 + 12 * i);
        if (isLeaf) {
          const length = entry.readUInt16LE(4);
          const start = entry.readUInt16LE(6) * 2 ** 32 + entry.readUInt32LE(8);
          const isWritten = length <= WRITTEN_MOST;
          stretches.push({
            at: entry.readUInt32LE(0) * this.blockBytes,
            length: (isWritten ? length : length - WRITTEN_MOST) * this.blockBytes,
            place: isWritten ? start * this.blockBytes : null,
          });
          if (stretches.length > MOST_STRETCHES) throw unreadable("a file in too many pieces");
        } else {
          const below = entry.readUInt16LE(8) * 2 ** 32 + entry.readUInt32LE(4);
          // a list that leads back into itself has no end
          if (seen.has(below)) throw unreadable("a list of extents that leads back into itself");
          seen.add(below);
          await walk(await exactly(this.volume, below * this.blockBytes, this.blockBytes), depth + 1);
        }
      }
    };
    await walk(block, 0);
    return stretches;
  }

  private async fromBlocks({ block, size }: Inode): Promise<Stretch[]> {
    const stretches: { at: number; length: number; place: number }[] = [];
    const blocks = Math.ceil(size / this.blockBytes);
    let number = 0;
    const add = (place: number) => {
      if (place > 0) {
        const at = number * this.blockBytes;
        const last = stretches.at(-1);
        if (last && last.at + last.length === at && last.place + last.length === place * this.blockBytes)
          last.length += this.blockBytes;
        else stretches.push({ at, length: this.blockBytes, place: place * this.blockBytes });
        if (stretches.length > MOST_STRETCHES) throw unreadable("a file in too many pieces");
      }
      number += 1;
    };
    const perBlock = this.blockBytes / 4;
    const seen = new Set<number>();
    const walk = async (place: number, levels: number): Promise<void> => {
      if (number >= blocks) return;
      if (levels === 0) return add(place);
      if (place === 0) {
        number += perBlock ** levels;
        return;
      }
      if (seen.has(place)) throw unreadable("a list of blocks that leads back into itself");
      seen.add(place);
      const list = await exactly(this.volume, place * this.blockBytes, this.blockBytes);
      for (let i = 0; i < perBlock && number < blocks; i += 1)
        await walk(list.readUInt32LE(4 * i), levels - 1);
    };
    for (let i = 0; i < 12 && number < blocks; i += 1) add(block.readUInt32LE(4 * i));
    for (const level of [1, 2, 3]) await walk(block.readUInt32LE(4 * (11 + level)), level);
    return stretches;
  }
}
