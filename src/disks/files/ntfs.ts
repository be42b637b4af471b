import { LRUCache } from "lru-cache";
import {
  exactly,
  type FileSystem,
  type FsItem,
  type FsName,
  fromStretches,
  MOST_ENTRIES,
  MOST_FOLDER_BYTES,
  type Stretch,
  unreadable,
  type Volume,
} from "./file-system";

/** NTFS. Source: the documentation of the Linux-NTFS project (NTFS Documentation, R. Russon and Y. Fledel). */

const ROOT = 5;
/** Records below belong to the file system itself. */
const FIRST_OF_PEOPLE = 24;
const TYPE = {
  standard: 0x10,
  list: 0x20,
  fileName: 0x30,
  data: 0x80,
  indexRoot: 0x90,
  indexAllocation: 0xa0,
  bitmap: 0xb0,
  reparse: 0xc0,
  end: 0xffffffff,
} as const;
const INDEX = "$I30";
const RECORD = { inUse: 1, folder: 2 } as const;
const COMPRESSED = 0x00ff;
const ENCRYPTED = 0x4000;
const REPARSE = { link: 0xa000000c, junction: 0xa0000003 } as const;
const DOS_NAME = 2;
const LAST_ENTRY = 2;
/** 100 nanoseconds since 1601, at the beginning of 1970. */
const EPOCH = 116_444_736_000_000_000n;
const MOST_RUNS = 200_000;
const MOST_RECORDS_OF_ONE = 1024;
const MOST_ATTRIBUTE_LIST = 1024 * 1024;

interface Attribute {
  readonly type: number;
  readonly name: string;
  readonly flags: number;
  readonly size: number;
  /** Bytes that were written; what follows reads as zeros. */
  readonly initialised: number;
  /** The content itself, where it lies in the record. */
  readonly resident: Buffer | null;
  readonly stretches: readonly Stretch[];
  /** Clusters of a unit of compression. */
  readonly unit: number;
}

interface Record_ {
  readonly flags: number;
  readonly attributes: readonly Attribute[];
}

export class NtfsFileSystem implements FileSystem {
  readonly root = ROOT;
  private readonly records = new LRUCache<number, Promise<Record_>>({ max: 2048 });
  private mft: Attribute | null = null;

  private constructor(
    private readonly volume: Volume,
    private readonly clusterBytes: number,
    private readonly recordBytes: number,
    private readonly indexBytes: number,
    private readonly mftAt: number,
  ) {}

  static async open(volume: Volume): Promise<NtfsFileSystem> {
    const boot = await exactly(volume, 0, 512);
    const sector = boot.readUInt16LE(11);
    const perCluster = boot[13]! > 128 ? 2 ** (256 - boot[13]!) : boot[13]!;
    const clusterBytes = sector * perCluster;
    const sizeOf = (value: number) => (value < 0 ? 2 ** -value : value * clusterBytes);
    const recordBytes = sizeOf(boot.readInt8(64));
    const indexBytes = sizeOf(boot.readInt8(68));
    const isSane = (bytes: number, most: number) =>
      bytes >= 256 && bytes <= most && Number.isInteger(Math.log2(bytes));
    if (
      !isSane(sector, 4096) ||
      !isSane(clusterBytes, 2 ** 21) ||
      !isSane(recordBytes, 65_536) ||
      !isSane(indexBytes, 2 ** 21)
    )
      throw unreadable("an NTFS file system with an impossible boot sector");
    const system = new NtfsFileSystem(
      volume,
      clusterBytes,
      recordBytes,
      indexBytes,
      Number(boot.readBigUInt64LE(48)) * clusterBytes,
    );
    // the table of records is described by its own first record
    // its fix-ups are undone in place: what the volume keeps stays as it is
    const first = system.parse(Buffer.from(await exactly(volume, system.mftAt, recordBytes)), 0);
    system.mft = attributeOf(first, TYPE.data) ?? null;
    if (!system.mft || system.mft.resident)
      throw unreadable("an NTFS file system without its table of records");
    const whole = await system.record(0);
    system.mft = attributeOf(whole, TYPE.data)!;
    system.records.clear();
    return system;
  }

  async item(id: number): Promise<FsItem> {
    const record = await this.record(id);
    const standard = attributeOf(record, TYPE.standard)?.resident;
    const data = attributeOf(record, TYPE.data);
    const reparse = attributeOf(record, TYPE.reparse);
    const tag = reparse ? await this.tagOf(reparse) : 0;
    const isLink = tag === REPARSE.link || tag === REPARSE.junction;
    const isFolder = (record.flags & RECORD.folder) > 0;
    const time = standard && standard.length >= 16 ? standard.readBigUInt64LE(8) : EPOCH;
    return {
      type: isLink ? "link" : isFolder ? "folder" : data ? "file" : "other",
      size: isFolder || isLink ? 0 : (data?.size ?? 0),
      mtime: (time > EPOCH ? time - EPOCH : 0n) * 100n,
      mode: isFolder ? 0o755 : 0o644,
      uid: 0,
      gid: 0,
    };
  }

  async read(id: number, offset: number, length: number): Promise<Buffer> {
    const data = attributeOf(await this.record(id), TYPE.data);
    return data ? this.content(data, offset, length) : Buffer.alloc(0);
  }

  async target(id: number): Promise<string> {
    const reparse = attributeOf(await this.record(id), TYPE.reparse);
    if (!reparse) throw unreadable("the item is no link");
    const bytes = await this.content(reparse, 0, Math.min(reparse.size, 65_536));
    const tag = bytes.length >= 20 ? bytes.readUInt32LE(0) : 0;
    const buffer = bytes.subarray(tag === REPARSE.link ? 20 : 16);
    const pick = (at: number) => {
      const [from, length] = [bytes.readUInt16LE(at), bytes.readUInt16LE(at + 2)];
      return buffer.subarray(from, from + length).toString("utf16le");
    };
    if (tag !== REPARSE.link && tag !== REPARSE.junction) throw unreadable("the item is no link");
    return Buffer.from(pick(12) || pick(8), "utf8").toString("latin1");
  }

  async folder(id: number): Promise<{ self: number; parent: number }> {
    const name = attributeOf(await this.record(id), TYPE.fileName)?.resident;
    if (!name || name.length < 8) throw unreadable(`record ${id} has no name`);
    return { self: id, parent: referenceAt(name, 0) };
  }

  async list(id: number): Promise<FsName[]> {
    const record = await this.record(id);
    const root = attributeOf(record, TYPE.indexRoot, INDEX)?.resident;
    if (!root || root.length < 32) throw unreadable("the item is no folder");
    const names: FsName[] = [];
    const add = (node: Buffer) => {
      for (const one of entriesOf(node)) {
        if (id === ROOT && one.id < FIRST_OF_PEOPLE) continue;
        names.push(one);
        if (names.length > MOST_ENTRIES) throw unreadable("the folder claims too many entries");
      }
    };
    add(root.subarray(16));
    const allocation = attributeOf(record, TYPE.indexAllocation, INDEX);
    const bitmap = attributeOf(record, TYPE.bitmap, INDEX);
    if (!allocation || !bitmap) return names;
    if (allocation.size > MOST_FOLDER_BYTES) throw unreadable("the folder claims an impossible length");
    const used = await this.content(bitmap, 0, Math.min(bitmap.size, 2 ** 20));
    for (let block = 0; (block + 1) * this.indexBytes <= allocation.size; block += 1) {
      if (((used[block >> 3] ?? 0) & (1 << (block & 7))) === 0) continue;
      const bytes = await this.content(allocation, block * this.indexBytes, this.indexBytes);
      if (bytes.toString("latin1", 0, 4) !== "INDX") throw unreadable("a damaged block of a folder");
      fixUp(bytes);
      add(bytes.subarray(24));
    }
    return names;
  }

  private async tagOf(reparse: Attribute): Promise<number> {
    const bytes = await this.content(reparse, 0, 4);
    return bytes.length === 4 ? bytes.readUInt32LE(0) : 0;
  }

  private record(id: number): Promise<Record_> {
    const kept = this.records.get(id);
    if (kept) return kept;
    const read = this.readRecord(id);
    this.records.set(id, read);
    read.catch(() => this.records.delete(id));
    return read;
  }

  private async raw(id: number): Promise<Buffer> {
    const bytes = await this.content(this.mft!, id * this.recordBytes, this.recordBytes);
    if (bytes.length < this.recordBytes) throw unreadable(`there is no record ${id}`);
    return bytes;
  }

  /** A record with the attributes that lie in other records. */
  private async readRecord(id: number): Promise<Record_> {
    const record = this.parse(await this.raw(id), id);
    const list = attributeOf(record, TYPE.list);
    if (!list) return record;
    if (list.size > MOST_ATTRIBUTE_LIST) throw unreadable("a file with too many attributes");
    const bytes = await this.content(list, 0, list.size);
    const others = new Set<number>();
    for (let at = 0; at + 26 <= bytes.length; ) {
      const length = bytes.readUInt16LE(at + 4);
      if (length < 26) break;
      const other = referenceAt(bytes, at + 16);
      if (other !== id) others.add(other);
      at += length;
    }
    if (others.size > MOST_RECORDS_OF_ONE) throw unreadable("a file in too many records");
    const attributes = [...record.attributes];
    for (const other of others) attributes.push(...this.parse(await this.raw(other), other).attributes);
    return { flags: record.flags, attributes: joined(attributes) };
  }

  private parse(bytes: Buffer, id: number): Record_ {
    if (bytes.toString("latin1", 0, 4) !== "FILE") throw unreadable(`record ${id} is damaged`);
    fixUp(bytes);
    const flags = bytes.readUInt16LE(22);
    if ((flags & RECORD.inUse) === 0) throw unreadable(`record ${id} is not in use`);
    const attributes: Attribute[] = [];
    for (let at = bytes.readUInt16LE(20); at + 24 <= bytes.length; ) {
      const type = bytes.readUInt32LE(at);
      if (type === TYPE.end) break;
      const length = bytes.readUInt32LE(at + 4);
      if (length < 24 || at + length > bytes.length) throw unreadable(`record ${id} is damaged`);
      const attribute = this.attribute(bytes.subarray(at, at + length), type);
      if (attribute) attributes.push(attribute);
      at += length;
    }
    return { flags, attributes };
  }

  private attribute(bytes: Buffer, type: number): Attribute | null {
    const nameAt = bytes.readUInt16LE(10);
    const name = bytes.toString("utf16le", nameAt, nameAt + 2 * bytes[9]!);
    const flags = bytes.readUInt16LE(12);
    if (bytes[8] === 0) {
      const [length, from] = [bytes.readUInt32LE(16), bytes.readUInt16LE(20)];
      if (from + length > bytes.length) throw unreadable("an attribute is longer than its record");
      const resident = Buffer.from(bytes.subarray(from, from + length));
      return { type, name, flags, size: length, initialised: length, resident, stretches: [], unit: 0 };
    }
    if (bytes.length < 64) throw unreadable("an attribute is damaged");
    const first = Number(bytes.readBigUInt64LE(16));
    return {
      type,
      name,
      flags,
      // of a part that does not begin the attribute they say nothing
      size: first === 0 ? Number(bytes.readBigUInt64LE(48)) : 0,
      initialised: first === 0 ? Number(bytes.readBigUInt64LE(56)) : 0,
      resident: null,
      stretches: this.runs(bytes.subarray(bytes.readUInt16LE(32)), first),
      unit: first === 0 ? bytes.readUInt16LE(34) : 0,
    };
  }

  private runs(bytes: Buffer, first: number): Stretch[] {
    const stretches: Stretch[] = [];
    let cluster = first;
    let place = 0;
    for (let at = 0; at < bytes.length && bytes[at] !== 0; ) {
      const [lengthBytes, placeBytes] = [bytes[at]! & 15, bytes[at]! >> 4];
      if (
        lengthBytes === 0 ||
        lengthBytes > 6 ||
        placeBytes > 6 ||
        at + 1 + lengthBytes + placeBytes > bytes.length
      )
        throw unreadable("a damaged list of runs");
      const length = bytes.readUIntLE(at + 1, lengthBytes);
      if (placeBytes > 0) place += bytes.readIntLE(at + 1 + lengthBytes, placeBytes);
      stretches.push({
        at: cluster * this.clusterBytes,
        length: length * this.clusterBytes,
        place: placeBytes > 0 ? place * this.clusterBytes : null,
      });
      if (stretches.length > MOST_RUNS || place < 0) throw unreadable("a damaged list of runs");
      cluster += length;
      at += 1 + lengthBytes + placeBytes;
    }
    return stretches;
  }

  private async content(attribute: Attribute, offset: number, length: number): Promise<Buffer> {
    const { resident, stretches, size, flags, initialised } = attribute;
    if (flags & ENCRYPTED) throw unreadable("the file is encrypted by its file system");
    const wanted = Math.max(0, Math.min(length, size - offset));
    if (wanted === 0) return Buffer.alloc(0);
    if (resident) return Buffer.from(resident.subarray(offset, offset + wanted));
    const bytes =
      flags & COMPRESSED && attribute.unit > 0
        ? await this.decompressed(attribute, offset, wanted)
        : await fromStretches(this.volume, stretches, offset, wanted);
    if (offset + wanted > initialised) bytes.fill(0, Math.max(0, initialised - offset));
    return bytes;
  }

  private async decompressed(
    { stretches, unit }: Attribute,
    offset: number,
    length: number,
  ): Promise<Buffer> {
    const unitBytes = this.clusterBytes * 2 ** unit;
    if (unitBytes > 2 ** 24) throw unreadable("units of compression of an impossible length");
    const parts: Buffer[] = [];
    const first = Math.floor(offset / unitBytes);
    const last = Math.floor((offset + length - 1) / unitBytes);
    for (let number = first; number <= last; number += 1) {
      const at = number * unitBytes;
      const stored = stretches
        .filter((one) => one.place !== null && one.at < at + unitBytes && one.at + one.length > at)
        .reduce((sum, one) => sum + Math.min(one.at + one.length, at + unitBytes) - Math.max(one.at, at), 0);
      if (stored === 0) parts.push(Buffer.alloc(unitBytes));
      else {
        const raw = await fromStretches(this.volume, stretches, at, Math.min(stored, unitBytes));
        parts.push(stored >= unitBytes ? raw : lznt1(raw, unitBytes));
      }
    }
    const all = parts.length === 1 ? parts[0]! : Buffer.concat(parts);
    return Buffer.from(all.subarray(offset - first * unitBytes, offset - first * unitBytes + length));
  }
}

/** Parts of one attribute that lie in several records become one. */
function joined(attributes: readonly Attribute[]): Attribute[] {
  const byName = new Map<string, Attribute>();
  for (const one of attributes) {
    const key = `${one.type} ${one.name}`;
    const before = byName.get(key);
    byName.set(
      key,
      before && !one.resident && !before.resident
        ? {
            ...before,
            size: Math.max(before.size, one.size),
            initialised: Math.max(before.initialised, one.initialised),
            unit: Math.max(before.unit, one.unit),
            stretches: [...before.stretches, ...one.stretches].sort((a, b) => a.at - b.at),
          }
        : (before ?? one),
    );
  }
  return [...byName.values()];
}

const attributeOf = ({ attributes }: Record_, type: number, name = ""): Attribute | undefined =>
  attributes.find((one) => one.type === type && one.name === name);

/** The number of a record in a reference; its upper 16 bits count how often it was used. */
const referenceAt = (bytes: Buffer, at: number): number => bytes.readUIntLE(at, 6);

/** The last two bytes of each sector are kept aside, so that a torn write shows. */
function fixUp(bytes: Buffer): void {
  const [at, count] = [bytes.readUInt16LE(4), bytes.readUInt16LE(6)];
  if (at + 2 * count > bytes.length || (count - 1) * 512 > bytes.length)
    throw unreadable("a record with damaged fix-ups");
  for (let i = 1; i < count; i += 1) {
    const end = i * 512 - 2;
    if (bytes.readUInt16LE(end) !== bytes.readUInt16LE(at))
      throw unreadable("a record was written in part only");
    bytes.copy(bytes, end, at + 2 * i, at + 2 * i + 2);
  }
}

/** The names in a node of a folder's index, from its header on. */
function entriesOf(node: Buffer): FsName[] {
  const names: FsName[] = [];
  const end = Math.min(node.length, node.readUInt32LE(4));
  for (let at = node.readUInt32LE(0); at + 16 <= end; ) {
    const length = node.readUInt16LE(at + 8);
    if (node.readUInt16LE(at + 12) & LAST_ENTRY || length < 16 || at + length > end) break;
    if (length >= 16 + 66) {
      const nameLength = node[at + 16 + 64]!;
      const space = node[at + 16 + 65]!;
      const name = node.toString("utf16le", at + 82, at + 82 + 2 * nameLength);
      if (space !== DOS_NAME && name !== "." && !/[/\0]/.test(name) && 82 + 2 * nameLength <= length)
        names.push({ name: Buffer.from(name, "utf8").toString("latin1"), id: referenceAt(node, at) });
    }
    at += length;
  }
  return names;
}

/** LZNT1, in chunks of 4 KiB. Source: MS-XCA, section 2.5. */
export function lznt1(bytes: Buffer, length: number): Buffer {
  const out = Buffer.alloc(length);
  let to = 0;
  for (let at = 0; at + 2 <= bytes.length && to < length; ) {
    const header = bytes.readUInt16LE(at);
    if (header === 0) break;
    const end = Math.min(bytes.length, at + 3 + (header & 0xfff));
    at += 2;
    if ((header & 0x8000) === 0) {
      to += bytes.copy(out, to, at, end);
      at = end;
      continue;
    }
    const start = to;
    while (at < end && to < length) {
      let flags = bytes[at]!;
      at += 1;
      for (let i = 0; i < 8 && at < end && to < length; i += 1, flags >>= 1) {
        if ((flags & 1) === 0) {
          out[to] = bytes[at]!;
          to += 1;
          at += 1;
          continue;
        }
        if (at + 2 > end) return out;
        const pair = bytes.readUInt16LE(at);
        at += 2;
        // the further into the chunk, the more bits tell how far back
        let bits = 4;
        while (bits < 12 && to - start > 2 ** bits) bits += 1;
        const back = (pair >> (16 - bits)) + 1;
        const count = (pair & ((1 << (16 - bits)) - 1)) + 3;
        if (back > to - start) throw unreadable("damaged compressed content");
        for (let j = 0; j < count && to < length; j += 1, to += 1) out[to] = out[to - back]!;
      }
    }
    // a chunk that is short is filled with zeros
    if (to - start < 4096 && at < bytes.length) to = Math.min(length, start + 4096);
  }
  return out;
}
