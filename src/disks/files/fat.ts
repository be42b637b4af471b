import { LRUCache } from "lru-cache";
import {
  exactly,
  type FileSystem,
  type FsItem,
  type FsName,
  fromStretches,
  MOST_ENTRIES,
  type Stretch,
  unreadable,
  type Volume,
} from "./file-system";

/** FAT12, FAT16 and FAT32 with long names. Source: Microsoft's FAT specification, ECMA-107. */

const ENTRY = 32;
/** Stretches of one file or folder. */
const MOST_STRETCHES = 200_000;
const ATTRIBUTE = { volume: 0x08, folder: 0x10, longName: 0x0f } as const;
const DELETED = 0xe5;
const ROOT = 0;

/** Times of FAT have no zone; they are shown as if they were UTC. */
function timeOf(date: number, time: number): bigint {
  const moment = Date.UTC(
    1980 + (date >> 9),
    Math.max(0, ((date >> 5) & 15) - 1),
    Math.max(1, date & 31),
    time >> 11,
    (time >> 5) & 63,
    (time & 31) * 2,
  );
  return BigInt(moment) * 1_000_000n;
}

interface FatItem extends FsItem {
  readonly cluster: number;
}

/** Items are known by where their entry lies on the volume; the root folder has none and is 0. */
export class FatFileSystem implements FileSystem {
  readonly root = ROOT;
  private readonly items = new LRUCache<number, FatItem>({ max: 16_384 });
  private readonly chains = new LRUCache<number, Promise<readonly Stretch[]>>({ max: 32 });

  private constructor(
    private readonly volume: Volume,
    private readonly bits: 12 | 16 | 32,
    private readonly fatAt: number,
    private readonly clusterBytes: number,
    private readonly dataAt: number,
    private readonly clusters: number,
    /** FAT12 and FAT16: a place of its own; FAT32: a chain of clusters. */
    private readonly rootPlace:
      | { readonly at: number; readonly length: number }
      | { readonly cluster: number },
  ) {}

  static async open(volume: Volume): Promise<FatFileSystem> {
    const boot = await exactly(volume, 0, 512);
    const sector = boot.readUInt16LE(11);
    const perCluster = boot[13]!;
    const reserved = boot.readUInt16LE(14);
    const copies = boot[16]!;
    const rootEntries = boot.readUInt16LE(17);
    const fatSectors = boot.readUInt16LE(22) || boot.readUInt32LE(36);
    const sectors = boot.readUInt16LE(19) || boot.readUInt32LE(32);
    const isPower = (value: number) => value > 0 && (value & (value - 1)) === 0;
    if (
      !isPower(sector) ||
      sector < 512 ||
      sector > 4096 ||
      !isPower(perCluster) ||
      copies === 0 ||
      reserved === 0
    )
      throw unreadable("a FAT file system with an impossible boot sector");
    const rootSectors = Math.ceil((rootEntries * ENTRY) / sector);
    const dataSector = reserved + copies * fatSectors + rootSectors;
    const clusters = Math.floor((sectors - dataSector) / perCluster);
    if (clusters < 1) throw unreadable("a FAT file system without clusters");
    const bits = clusters < 4085 ? 12 : clusters < 65_525 ? 16 : 32;
    return new FatFileSystem(
      volume,
      bits,
      reserved * sector,
      perCluster * sector,
      dataSector * sector,
      clusters,
      bits === 32
        ? { cluster: boot.readUInt32LE(44) }
        : { at: (reserved + copies * fatSectors) * sector, length: rootEntries * ENTRY },
    );
  }

  async item(id: number): Promise<FatItem> {
    if (id === ROOT) return { type: "folder", size: 0, mtime: 0n, mode: 0o755, uid: 0, gid: 0, cluster: 0 };
    const kept = this.items.get(id);
    if (kept) return kept;
    const entry = await exactly(this.volume, id, ENTRY);
    const isFolder = (entry[11]! & ATTRIBUTE.folder) > 0;
    const item: FatItem = {
      type: isFolder ? "folder" : "file",
      size: isFolder ? 0 : entry.readUInt32LE(28),
      mtime: timeOf(entry.readUInt16LE(24), entry.readUInt16LE(22)),
      mode: isFolder ? 0o755 : 0o644,
      uid: 0,
      gid: 0,
      cluster: (this.bits === 32 ? entry.readUInt16LE(20) * 2 ** 16 : 0) + entry.readUInt16LE(26),
    };
    this.items.set(id, item);
    return item;
  }

  async read(id: number, offset: number, length: number): Promise<Buffer> {
    const { size, cluster } = await this.item(id);
    const wanted = Math.max(0, Math.min(length, size - offset));
    return wanted === 0
      ? Buffer.alloc(0)
      : fromStretches(this.volume, await this.chain(cluster), offset, wanted);
  }

  async target(): Promise<string> {
    throw unreadable("FAT has no links");
  }

  async folder(id: number): Promise<{ self: number; parent: number }> {
    const { cluster } = await this.item(id);
    if (id === ROOT) return { self: ROOT, parent: ROOT };
    const [first] = await this.chain(cluster);
    if (!first?.place) throw unreadable("a folder without clusters");
    const entry = await exactly(this.volume, first.place + ENTRY, ENTRY);
    if (entry.toString("latin1", 0, 3) !== ".. ") throw unreadable("a folder that names no parent");
    const parent = (this.bits === 32 ? entry.readUInt16LE(20) * 2 ** 16 : 0) + entry.readUInt16LE(26);
    return { self: cluster, parent };
  }

  async list(id: number): Promise<FsName[]> {
    const { type, cluster } = await this.item(id);
    if (type !== "folder") throw unreadable("the item is no folder");
    const places: readonly Stretch[] =
      id !== ROOT
        ? await this.chain(cluster)
        : "at" in this.rootPlace
          ? [{ at: 0, length: this.rootPlace.length, place: this.rootPlace.at }]
          : await this.chain(this.rootPlace.cluster);
    const names: FsName[] = [];
    let long: string[] = [];
    for (const { place, length } of places) {
      const bytes = await exactly(this.volume, place!, length);
      for (let at = 0; at + ENTRY <= bytes.length; at += ENTRY) {
        const first = bytes[at]!;
        if (first === 0) return names;
        const attributes = bytes[at + 11]!;
        if (first === DELETED) long = [];
        else if ((attributes & ATTRIBUTE.longName) === ATTRIBUTE.longName) {
          if (first & 0x40) long = [];
          long.unshift(longPart(bytes.subarray(at, at + ENTRY)));
        } else {
          const name = long.length
            ? Buffer.from(long.join("").replace(/[\0\uffff][\s\S]*$/, ""), "utf8").toString("latin1")
            : shortName(bytes.subarray(at, at + ENTRY));
          long = [];
          if (
            attributes & ATTRIBUTE.volume ||
            name === "." ||
            name === ".." ||
            name === "" ||
            /[/\0]/.test(name)
          )
            continue;
          names.push({ name, id: place! + at });
          if (names.length > MOST_ENTRIES) throw unreadable("the folder claims too many entries");
        }
      }
    }
    return names;
  }

  private chain(cluster: number): Promise<readonly Stretch[]> {
    const kept = this.chains.get(cluster);
    if (kept) return kept;
    const found = this.readChain(cluster);
    this.chains.set(cluster, found);
    found.catch(() => this.chains.delete(cluster));
    return found;
  }

  private async readChain(first: number): Promise<Stretch[]> {
    const stretches: { at: number; length: number; place: number }[] = [];
    let cluster = first;
    let read = 0;
    for (; cluster >= 2 && cluster < this.clusters + 2; cluster = await this.next(cluster)) {
      const place = this.dataAt + (cluster - 2) * this.clusterBytes;
      const last = stretches.at(-1);
      if (last && last.place + last.length === place) last.length += this.clusterBytes;
      else stretches.push({ at: read * this.clusterBytes, length: this.clusterBytes, place });
      read += 1;
      if (read > this.clusters) throw unreadable("a chain of clusters that leads back into itself");
      if (stretches.length > MOST_STRETCHES) throw unreadable("a file in too many pieces");
    }
    return stretches;
  }

  private page: { readonly number: number; readonly bytes: Buffer } | null = null;
  /** The cluster after one; of the table a page at a time is read. */
  private async next(cluster: number): Promise<number> {
    const at = this.bits === 12 ? Math.floor(cluster * 1.5) : (cluster * this.bits) / 8;
    const number = Math.floor(at / PAGE);
    let { page } = this;
    if (page?.number !== number) {
      // an entry of 12 bits may lie across two pages
      const begin = this.fatAt + number * PAGE;
      page = { number, bytes: await this.volume.read(begin, Math.min(PAGE + 4, this.volume.size - begin)) };
      this.page = page;
    }
    const from = at - number * PAGE;
    if (from + 4 > page.bytes.length) throw unreadable("a chain of clusters that leaves its table");
    if (this.bits === 32) return page.bytes.readUInt32LE(from) & 0x0fffffff;
    const pair = page.bytes.readUInt16LE(from);
    return this.bits === 16 ? pair : cluster & 1 ? pair >> 4 : pair & 0xfff;
  }
}
const PAGE = 16 * 1024;

const longPart = (entry: Buffer): string =>
  entry.toString("utf16le", 1, 11) + entry.toString("utf16le", 14, 26) + entry.toString("utf16le", 28, 32);

/** The upper half of code page 850, in which short names of Western systems are written. */
const PAGE_850 =
  "ÇüéâäàåçêëèïîìÄÅÉæÆôöòûùÿÖÜø£Ø×ƒáíóúñÑªº¿®¬½¼¡«»░▒▓│┤ÁÂÀ©╣║╗╝¢¥┐└┴┬├─┼ãÃ╚╔╩╦╠═╬¤ðÐÊËÈıÍÎÏ┘┌█▄¦Ì▀ÓßÔÒõÕµþÞÚÛÙýÝ¯´­±‗¾¶§÷¸°¨·¹³²■ ";

function shortName(entry: Buffer): string {
  const part = (from: number, to: number, isLower: number) => {
    const text = [...entry.subarray(from, to)]
      // what marks a deleted entry is written otherwise at the begin of a name
      .map((byte, i) => (from + i === 0 && byte === 0x05 ? DELETED : byte))
      .map((byte) => (byte < 128 ? String.fromCharCode(byte) : PAGE_850[byte - 128]!))
      .join("")
      .trimEnd();
    return isLower ? text.toLowerCase() : text;
  };
  const base = part(0, 8, entry[12]! & 0x08);
  const ending = part(8, 11, entry[12]! & 0x10);
  return Buffer.from(ending ? `${base}.${ending}` : base, "utf8").toString("latin1");
}
