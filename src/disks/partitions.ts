/**
 * Partition tables and the file systems in them, as far as their first blocks say. Sources: UEFI specification 2.10, section 5
 * (GPT and MBR); the on-disk formats of the file systems as their projects document them.
 */

/** Random access, bytes. */
export interface Readable {
  readonly size: number;
  read(offset: number, length: number): Promise<Buffer>;
}

export interface Partition {
  /** As the table numbers them, from 1 on; 0: the whole disk, without a table. */
  readonly number: number;
  readonly offset: number;
  readonly size: number;
  /** Such as `ext4`; null where nothing that is known begins there. */
  readonly fileSystem: string | null;
  /** Of the file system, or of the partition; empty where there is none. */
  readonly label: string;
}

export interface Layout {
  readonly table: "gpt" | "mbr" | null;
  readonly partitions: readonly Partition[];
}

const SECTOR = 512;
/** Entries of a table that is damaged or hostile are not gone through without end. */
const MOST = 128;
const MBR_EXTENDED: ReadonlySet<number> = new Set([0x05, 0x0f, 0x85]);
const GPT_PROTECTIVE = 0xee;

interface Found {
  readonly number: number;
  readonly offset: number;
  readonly size: number;
  readonly name: string;
}

/** What is on a disk. Reads only what it needs of it; a table that makes no sense is none. */
export async function layoutOf(disk: Readable): Promise<Layout> {
  const sector = await part(disk, 0, SECTOR);
  const hasTable = sector.length === SECTOR && sector.readUInt16LE(510) === 0xaa55;
  const isBoot = hasTable && !isPlainBootSector(sector);
  const isGpt = isBoot && entriesOf(sector).some(({ type }) => type === GPT_PROTECTIVE);
  const found = isGpt ? await gpt(disk) : isBoot ? await mbr(disk, sector) : [];
  if (found.length === 0) {
    const whole = await fileSystemOf(disk, 0, disk.size);
    return {
      table: isGpt ? "gpt" : isBoot ? "mbr" : null,
      partitions: whole ? [{ number: 0, offset: 0, size: disk.size, ...whole }] : [],
    };
  }
  const partitions: Partition[] = [];
  for (const { name, ...place } of found) {
    const inside = await fileSystemOf(disk, place.offset, place.size);
    partitions.push({
      ...place,
      fileSystem: inside?.fileSystem ?? null,
      label: inside?.label || name,
    });
  }
  return { table: isGpt ? "gpt" : "mbr", partitions };
}

const part = (disk: Readable, offset: number, length: number): Promise<Buffer> =>
  offset >= disk.size || length <= 0
    ? Promise.resolve(Buffer.alloc(0))
    : disk.read(offset, Math.min(length, disk.size - offset));

/** The first sector of a file system that fills the disk has the same signature as a table. */
const isPlainBootSector = (sector: Buffer): boolean =>
  ["NTFS    ", "EXFAT   "].includes(sector.toString("latin1", 3, 11)) ||
  /^FAT/.test(sector.toString("latin1", 54, 57)) ||
  /^FAT/.test(sector.toString("latin1", 82, 85));

const entriesOf = (sector: Buffer) =>
  [446, 462, 478, 494].map((at) => ({
    type: sector[at + 4]!,
    first: sector.readUInt32LE(at + 8),
    sectors: sector.readUInt32LE(at + 12),
  }));

async function mbr(disk: Readable, sector: Buffer): Promise<Found[]> {
  const found: Found[] = [];
  const add = (number: number, first: number, sectors: number) => {
    const offset = first * SECTOR;
    if (sectors > 0 && offset > 0 && offset < disk.size)
      found.push({ number, offset, size: Math.min(sectors * SECTOR, disk.size - offset), name: "" });
  };
  for (const [i, { type, first, sectors }] of entriesOf(sector).entries()) {
    if (type === 0) continue;
    if (!MBR_EXTENDED.has(type)) add(i + 1, first, sectors);
    else {
      // a chain of tables, each with one partition and the place of the next
      let next = first;
      const seen = new Set<number>();
      for (let number = 5; next > 0 && !seen.has(next) && number < MOST; number += 1) {
        seen.add(next);
        const table = await part(disk, next * SECTOR, SECTOR);
        if (table.length < SECTOR || table.readUInt16LE(510) !== 0xaa55) break;
        const [logical, following] = entriesOf(table) as [
          { type: number; first: number; sectors: number },
          { type: number; first: number; sectors: number },
        ];
        if (logical.type !== 0) add(number, next + logical.first, logical.sectors);
        next = MBR_EXTENDED.has(following.type) ? first + following.first : 0;
      }
    }
  }
  return found;
}

async function gpt(disk: Readable): Promise<Found[]> {
  const header = await part(disk, SECTOR, SECTOR);
  if (header.length < 92 || header.toString("latin1", 0, 8) !== "EFI PART") return [];
  const entriesAt = Number(header.readBigUInt64LE(72)) * SECTOR;
  const count = Math.min(header.readUInt32LE(80), MOST);
  const length = header.readUInt32LE(84);
  if (length < 128 || length > 4096 || !Number.isSafeInteger(entriesAt)) return [];
  const bytes = await part(disk, entriesAt, count * length);
  const found: Found[] = [];
  for (let i = 0; (i + 1) * length <= bytes.length; i += 1) {
    const entry = bytes.subarray(i * length, (i + 1) * length);
    if (entry.subarray(0, 16).every((byte) => byte === 0)) continue;
    const offset = Number(entry.readBigUInt64LE(32)) * SECTOR;
    const end = (Number(entry.readBigUInt64LE(40)) + 1) * SECTOR;
    if (!(offset < end) || offset >= disk.size) continue;
    const name = entry.toString("utf16le", 56, 128).replace(/\0[\s\S]*$/, "");
    found.push({ number: i + 1, offset, size: Math.min(end, disk.size) - offset, name });
  }
  return found;
}

const BTRFS_AT = 0x10000;

/** The file system that begins at a place; null where none that is known does. */
async function fileSystemOf(
  disk: Readable,
  offset: number,
  size: number,
): Promise<{ readonly fileSystem: string; readonly label: string } | null> {
  const head = await part(disk, offset, Math.min(size, 4096));
  if (head.length < 2048) return null;
  const at = (from: number, to: number) => head.toString("latin1", from, to);
  const utf8 = (bytes: Buffer) =>
    bytes
      .toString("utf8")
      .replace(/\0[\s\S]*$/, "")
      .trim();
  if (head.readUInt16LE(1024 + 0x38) === 0xef53) {
    const [compatible, incompatible] = [head.readUInt32LE(1024 + 0x5c), head.readUInt32LE(1024 + 0x60)];
    // extents, 64 bits or flexible groups: 4; a journal: 3
    const version = incompatible & 0x2c0 ? 4 : compatible & 4 ? 3 : 2;
    return { fileSystem: `ext${version}`, label: utf8(head.subarray(1024 + 0x78, 1024 + 0x88)) };
  }
  if (at(0, 4) === "XFSB") return { fileSystem: "xfs", label: utf8(head.subarray(108, 120)) };
  if (at(3, 11) === "NTFS    ") return { fileSystem: "ntfs", label: "" };
  if (at(3, 11) === "EXFAT   ") return { fileSystem: "exfat", label: "" };
  if (at(82, 87) === "FAT32") return { fileSystem: "fat32", label: fatLabel(at(71, 82)) };
  if (at(54, 57) === "FAT") return { fileSystem: "fat", label: fatLabel(at(43, 54)) };
  if (at(512, 520) === "LABELONE") return { fileSystem: "lvm", label: "" };
  if (head.length >= 4096 && at(4086, 4096) === "SWAPSPACE2")
    return { fileSystem: "swap", label: utf8(head.subarray(1052, 1068)) };
  if (size > BTRFS_AT + 4096) {
    const deep = await part(disk, offset + BTRFS_AT, 4096);
    if (deep.toString("latin1", 0x40, 0x48) === "_BHRfS_M")
      return { fileSystem: "btrfs", label: utf8(deep.subarray(0x12b, 0x12b + 256)) };
  }
  return null;
}

const fatLabel = (text: string): string => (/^NO NAME/.test(text) ? "" : text.trim());
