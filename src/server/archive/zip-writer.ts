import { constants, crc32, createDeflateRaw } from "node:zlib";

/**
 * A ZIP (APPNOTE 6.3.10) written as a stream: names in UTF-8 with their flag and, beside it, Info-ZIP's Unicode path field;
 * times to the second; modes of Unix; symbolic links; ZIP64 where something is long. The same members give the same bytes.
 */
export interface ZipMember {
  /** Relative, `/`-separated; of a folder without the one at its end. */
  readonly name: string;
  readonly type: "file" | "folder" | "link";
  /** Permission bits. */
  readonly mode: number;
  readonly mtime: Date;
  /** Bytes of a file, or of a link's target. */
  readonly size: number;
}

const FILE_TYPES = { file: 0o100000, folder: 0o040000, link: 0o120000 } as const;
const UNIX = 3;
const UTF8 = 0x0800;
/** Length and check sum follow the content. */
const FOLLOWS = 0x0008;
const [STORED, DEFLATED] = [0, 8];
const MOST_32 = 0xffffffff;
const MOST_16 = 0xffff;
/** From this size on a member is written as ZIP64: what does not shrink grows a little. */
const LONG = 0xf0000000;

interface Written {
  readonly central: Buffer;
}

export class ZipWriter {
  private at = 0;
  private readonly written: Written[] = [];

  constructor(private readonly write: (bytes: Buffer) => Promise<void>) {}

  private async put(bytes: Buffer): Promise<void> {
    this.at += bytes.length;
    await this.write(bytes);
  }

  /** Adds a member. What reading its content throws goes through: the archive is then not to be ended. */
  async add(member: ZipMember, content: AsyncIterable<Buffer> | Iterable<Buffer> = []): Promise<void> {
    const name = Buffer.from(member.type === "folder" ? `${member.name}/` : member.name, "utf8");
    const method = member.type === "file" && member.size > 0 ? DEFLATED : STORED;
    const long = member.size >= LONG;
    const { date, time } = dosTime(member.mtime);
    const fields = [timeField(member.mtime), ...(isAscii(name) ? [] : [pathField(name)])];
    const extra = Buffer.concat([...(long ? [longField([0, 0])] : []), ...fields]);
    const begin = this.at;
    const version = long ? 45 : 20;
    const head = Buffer.alloc(30);
    head.writeUInt32LE(0x04034b50, 0);
    head.writeUInt16LE(version, 4);
    head.writeUInt16LE(UTF8 | FOLLOWS, 6);
    head.writeUInt16LE(method, 8);
    head.writeUInt16LE(time, 10);
    head.writeUInt16LE(date, 12);
    if (long) {
      head.writeUInt32LE(MOST_32, 18);
      head.writeUInt32LE(MOST_32, 22);
    }
    head.writeUInt16LE(name.length, 26);
    head.writeUInt16LE(extra.length, 28);
    await this.put(Buffer.concat([head, name, extra]));
    const body = this.at;
    const { crc, size } = method === DEFLATED ? await this.deflate(content) : await this.store(content);
    const packed = this.at - body;
    const tail = Buffer.alloc(long ? 24 : 16);
    tail.writeUInt32LE(0x08074b50, 0);
    tail.writeUInt32LE(crc, 4);
    if (long) {
      tail.writeBigUInt64LE(BigInt(packed), 8);
      tail.writeBigUInt64LE(BigInt(size), 16);
    } else {
      tail.writeUInt32LE(packed, 8);
      tail.writeUInt32LE(size, 12);
    }
    await this.put(tail);
    this.written.push({
      central: this.central({ member, name, method, version, date, time, crc, size, packed, begin, fields }),
    });
  }

  private async store(content: AsyncIterable<Buffer> | Iterable<Buffer>) {
    let [crc, size] = [0, 0];
    for await (const part of content) {
      crc = crc32(part, crc);
      size += part.length;
      await this.put(part);
    }
    return { crc, size };
  }

  private async deflate(content: AsyncIterable<Buffer> | Iterable<Buffer>) {
    let [crc, size] = [0, 0];
    const deflater = createDeflateRaw({ level: 1, strategy: constants.Z_DEFAULT_STRATEGY });
    const feeding = (async () => {
      for await (const part of content) {
        crc = crc32(part, crc);
        size += part.length;
        if (!deflater.write(part))
          await new Promise<void>((resolve) => deflater.once("drain", () => resolve()));
      }
      deflater.end();
    })();
    // what could not be read ends both sides
    feeding.catch((error: Error) => deflater.destroy(error));
    for await (const part of deflater) await this.put(part as Buffer);
    await feeding;
    return { crc, size };
  }

  private central(one: {
    member: ZipMember;
    name: Buffer;
    method: number;
    version: number;
    date: number;
    time: number;
    crc: number;
    size: number;
    packed: number;
    begin: number;
    fields: readonly Buffer[];
  }): Buffer {
    const { member, name, size, packed, begin } = one;
    const beyond = [size, packed, begin].map((value) => value >= MOST_32);
    const longs = [size, packed, begin].filter((_, i) => beyond[i]);
    const extra = Buffer.concat([...(longs.length ? [longField(longs)] : []), ...one.fields]);
    const head = Buffer.alloc(46);
    head.writeUInt32LE(0x02014b50, 0);
    head.writeUInt16LE((UNIX << 8) | 45, 4);
    head.writeUInt16LE(longs.length ? 45 : one.version, 6);
    head.writeUInt16LE(UTF8 | FOLLOWS, 8);
    head.writeUInt16LE(one.method, 10);
    head.writeUInt16LE(one.time, 12);
    head.writeUInt16LE(one.date, 14);
    head.writeUInt32LE(one.crc, 16);
    head.writeUInt32LE(Math.min(packed, MOST_32), 20);
    head.writeUInt32LE(Math.min(size, MOST_32), 24);
    head.writeUInt16LE(name.length, 28);
    head.writeUInt16LE(extra.length, 30);
    const mode = FILE_TYPES[member.type] | (member.mode & 0o7777);
    head.writeUInt32LE(((mode << 16) | (member.type === "folder" ? 0x10 : 0)) >>> 0, 38);
    head.writeUInt32LE(Math.min(begin, MOST_32), 42);
    return Buffer.concat([head, name, extra]);
  }

  /** Writes the directory of all members, which ends the archive. */
  async end(): Promise<void> {
    const begin = this.at;
    for (const { central } of this.written) await this.put(central);
    const length = this.at - begin;
    const count = this.written.length;
    if (count >= MOST_16 || begin >= MOST_32 || length >= MOST_32) {
      const at = this.at;
      const end = Buffer.alloc(56 + 20);
      end.writeUInt32LE(0x06064b50, 0);
      end.writeBigUInt64LE(44n, 4);
      end.writeUInt16LE((UNIX << 8) | 45, 12);
      end.writeUInt16LE(45, 14);
      end.writeBigUInt64LE(BigInt(count), 24);
      end.writeBigUInt64LE(BigInt(count), 32);
      end.writeBigUInt64LE(BigInt(length), 40);
      end.writeBigUInt64LE(BigInt(begin), 48);
      end.writeUInt32LE(0x07064b50, 56);
      end.writeBigUInt64LE(BigInt(at), 64);
      end.writeUInt32LE(1, 72);
      await this.put(end);
    }
    const last = Buffer.alloc(22);
    last.writeUInt32LE(0x06054b50, 0);
    last.writeUInt16LE(Math.min(count, MOST_16), 8);
    last.writeUInt16LE(Math.min(count, MOST_16), 10);
    last.writeUInt32LE(Math.min(length, MOST_32), 12);
    last.writeUInt32LE(Math.min(begin, MOST_32), 16);
    await this.put(last);
  }
}

const isAscii = (bytes: Buffer): boolean => bytes.every((byte) => byte < 0x80);

/** Date and time as FAT has them, in UTC: from 1980 to 2107, to two seconds. */
function dosTime(moment: Date): { date: number; time: number } {
  const year = Math.min(2107, Math.max(1980, moment.getUTCFullYear()));
  if (year !== moment.getUTCFullYear()) return { date: ((year - 1980) << 9) | (1 << 5) | 1, time: 0 };
  return {
    date: ((year - 1980) << 9) | ((moment.getUTCMonth() + 1) << 5) | moment.getUTCDate(),
    time: (moment.getUTCHours() << 11) | (moment.getUTCMinutes() << 5) | (moment.getUTCSeconds() >> 1),
  };
}

function field(id: number, data: Buffer): Buffer {
  const head = Buffer.alloc(4);
  head.writeUInt16LE(id, 0);
  head.writeUInt16LE(data.length, 2);
  return Buffer.concat([head, data]);
}
/** The extended time stamp: seconds since 1970, where 32 bits hold them. */
function timeField(moment: Date): Buffer {
  const seconds = Math.floor(moment.getTime() / 1000);
  if (!Number.isFinite(seconds) || seconds < -(2 ** 31) || seconds >= 2 ** 31) return Buffer.alloc(0);
  const data = Buffer.alloc(5);
  data[0] = 1;
  data.writeInt32LE(seconds, 1);
  return field(0x5455, data);
}
/** Info-ZIP's Unicode path: for programs that do not know the flag. */
function pathField(name: Buffer): Buffer {
  const head = Buffer.alloc(5);
  head[0] = 1;
  head.writeUInt32LE(crc32(name), 1);
  return field(0x7075, Buffer.concat([head, name]));
}
function longField(values: readonly number[]): Buffer {
  const data = Buffer.alloc(values.length * 8);
  values.forEach((value, i) => {
    data.writeBigUInt64LE(BigInt(value), i * 8);
  });
  return field(0x0001, data);
}
