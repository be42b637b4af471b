import { type Readable, Transform, type TransformCallback } from "node:stream";
import type { ARCHIVE_FORMATS } from "@/core/units/download-formats";
import type { Point } from "@/db/points/points";
import { fileBytes, findEntry, type Walked, walkTree } from "@/store/read/browse";
import type { ChunkReader } from "@/store/read/reader";
import { type ByteString, byteString, type Entry } from "@/store/tree/tree";
import { notFound } from "../base/problem";
import type { Services } from "../base/services";
import { imageOf, isImage } from "./image";
import { isJoined, type JoinedFormat, joinedFile } from "./joined";
import { ArchiveNames } from "./names";
import { contentLength, padded, sparseMap, TAR_END, type TarMember, tarHeader } from "./tar-headers";
import { ZipWriter } from "./zip-writer";

/** The joined ones: of mailboxes only. Images: of one disk. */
export type ArchiveFormat = (typeof ARCHIVE_FORMATS)[number];
export const ARCHIVE_TYPES: Readonly<Record<ArchiveFormat, string>> = {
  zip: "application/zip",
  tar: "application/x-tar",
  mbox: "application/mbox",
  ics: "text/calendar; charset=utf-8",
  vcf: "text/vcard; charset=utf-8",
  qcow2: "application/octet-stream",
};

export interface ArchiveItem {
  readonly point: Point;
  readonly path: ByteString;
  /** Goes into the name where two items have the same one. */
  readonly label: string;
}

interface ArchiveEntry extends Walked {
  readonly reader: ChunkReader;
  /** Name inside the archive: relative, without `..`; of a TAR a byte string. */
  readonly name: string;
  readonly pointKey: string;
}

/** Everything that goes into the archive. */
async function* entriesOf(
  services: Services,
  items: readonly ArchiveItem[],
  format: ArchiveFormat,
): AsyncGenerator<ArchiveEntry> {
  const names = new ArchiveNames(format === "zip");
  const taken = new Set<string>();
  for (const { point, path, label } of items) {
    const reader = await services.spaces.at(point, path);
    const last = path === "/" ? "" : path.slice(path.lastIndexOf("/") + 1);
    let top = last === "" ? "" : names.name("", last);
    for (let number = 1; taken.has(top); number += 1) {
      const folder = names.name("", byteString(`${label}${number > 1 ? ` ${number}` : ""}`));
      top = last === "" ? folder : names.name(folder, last);
    }
    taken.add(top);
    // of hard links the first member has the content; those of another point are other files
    const pointKey = point.id.toString("hex");
    const entry = path === "/" ? null : await findEntry(reader, point.root, path);
    if (path !== "/" && !entry) throw notFound();
    if (entry) yield { reader, path, entry, name: top, pointKey };
    const node = entry ? entry.node : point.root;
    if (!node) continue;
    // where each folder on the way lies in the archive, by how deep it is
    const folders: string[] = [top];
    for await (const walked of walkTree(reader, node, path)) {
      const below = walked.path.slice(path === "/" ? 1 : path.length + 1);
      const parts = below.split("/");
      const name = names.name(folders[parts.length - 1] ?? "", parts.at(-1)!);
      folders[parts.length] = name;
      yield { reader, ...walked, name, pointKey };
    }
  }
}

/**
 * So many downloads read a piece of their content at a time; the others wait for their turn, a piece each. Whoever clicks
 * meanwhile is answered in between. A turn ends before the piece is sent: a slow line holds up nobody else.
 */
const AT_ONCE = 2;
let reading = 0;
const waiting: (() => void)[] = [];
async function inTurn<T>(work: () => Promise<T>): Promise<T> {
  if (reading >= AT_ONCE) await new Promise<void>((resolve) => waiting.push(resolve));
  else reading += 1;
  try {
    return await work();
  } finally {
    // what waits for the loop comes first
    setImmediate(() => {
      const next = waiting.shift();
      if (next) next();
      else reading -= 1;
    });
  }
}

async function* piecesInTurn(
  reader: ChunkReader,
  entry: Walked["entry"],
  from = 0,
  before = Number.POSITIVE_INFINITY,
): AsyncGenerator<Buffer> {
  const pieces = fileBytes(reader, entry, from, before);
  for (;;) {
    const piece = await inTurn(() => pieces.next());
    if (piece.done) return;
    yield piece.value;
  }
}

export interface ArchiveResult {
  files: number;
  bytes: number;
}

/** Which bytes of an archive are wanted: from `from` to before `to`. */
export interface Part {
  readonly from: number;
  readonly to: number;
}
const WHOLE: Part = { from: 0, to: Number.POSITIVE_INFINITY };

/** Lets a part of what comes by through; the bytes before and after it are counted and dropped. */
class Cut extends Transform {
  passed = 0;
  constructor(private readonly part: Part) {
    super();
  }
  override _transform(bytes: Buffer, _: BufferEncoding, done: TransformCallback): void {
    const { from, to } = this.part;
    const [begin, end] = [Math.max(0, from - this.passed), Math.min(bytes.length, to - this.passed)];
    this.passed += bytes.length;
    if (end > begin) this.push(bytes.subarray(begin, end));
    done();
  }
}

/**
 * Streams an archive, or a part of it: the same items give the same bytes every time, so that a download which broke off
 * goes on where it was. `ended` resolves when the last byte is out, and rejects when it broke off.
 */
export function streamArchive(
  services: Services,
  items: readonly ArchiveItem[],
  format: ArchiveFormat,
  part: Part = WHOLE,
): { stream: Readable; ended: Promise<ArchiveResult> } {
  const output = new Cut(part);
  const result: ArchiveResult = { files: 0, bytes: 0 };
  const written =
    format === "tar"
      ? writeTar(services, items, output, result, part)
      : isJoined(format)
        ? writeJoined(services, items, output, result, format)
        : isImage(format)
          ? writeImage(services, items, output, result)
          : writeZip(services, items, output, result);
  const ended = written.then(() => result);
  ended.catch((error: Error) => output.destroy(error));
  return { stream: output, ended };
}

/** How long an archive is, bytes. Of a TAR that is known from its entries; the others have to be made once to tell. */
export async function archiveLength(
  services: Services,
  items: readonly ArchiveItem[],
  format: ArchiveFormat,
): Promise<number> {
  if (format === "tar") {
    let length = TAR_END;
    for await (const { member } of tarMembers(services, items))
      length += tarHeader(member).length + padded(contentLength(member));
    return length;
  }
  if (isImage(format)) return (await imageOf(services, items)).length;
  const output = new Cut({ from: 0, to: 0 });
  output.resume();
  const nothing = { files: 0, bytes: 0 };
  if (isJoined(format)) await writeJoined(services, items, output, nothing, format);
  else await writeZip(services, items, output, nothing);
  return output.passed;
}

/** Members of a TAR: a file that was written under another name already is a hard link to that. */
async function* tarMembers(
  services: Services,
  items: readonly ArchiveItem[],
): AsyncGenerator<ArchiveEntry & { readonly member: TarMember }> {
  const firstNames = new Map<string, Buffer>();
  for await (const one of entriesOf(services, items, "tar")) {
    const { entry, pointKey } = one;
    const name = Buffer.from(one.name, "latin1");
    const same = entry.type === "file" && entry.sameFile ? `${pointKey} ${entry.sameFile}` : null;
    const sameAs = same === null ? undefined : firstNames.get(same);
    if (same !== null && !sameAs) firstNames.set(same, name);
    yield { ...one, member: { name, entry, sameAs } };
  }
}

/** The bytes that a TAR holds of a file: of one with holes what is between them. */
async function* tarContent(reader: ChunkReader, entry: Entry): AsyncGenerator<Buffer> {
  const map = sparseMap(entry);
  if (!map) return yield* piecesInTurn(reader, entry);
  for (const [offset, length] of map)
    if (length > 0) yield* piecesInTurn(reader, entry, offset, offset + length);
}

const BROKEN = "the download was broken off";

async function writeTar(
  services: Services,
  items: readonly ArchiveItem[],
  output: Cut,
  result: ArchiveResult,
  { from, to }: Part,
): Promise<void> {
  let at = 0;
  const write = async (bytes: Buffer) => {
    if (output.destroyed) throw new Error(BROKEN);
    at += bytes.length;
    if (!output.write(bytes)) await drained(output);
  };
  /** Steps over what is not wanted without reading it. */
  const step = (bytes: number) => {
    at += bytes;
    output.passed += bytes;
  };
  for await (const { reader, entry, member } of tarMembers(services, items)) {
    if (at >= to) break;
    await write(tarHeader(member));
    const length = contentLength(member);
    if (at + padded(length) <= from) {
      step(padded(length));
      continue;
    }
    if (length > 0)
      for await (const part of tarContent(reader, entry)) {
        await write(part);
        result.bytes += part.length;
      }
    if (padded(length) > length) await write(Buffer.alloc(padded(length) - length));
    if (entry.type === "file") result.files += 1;
  }
  if (at < to) await write(Buffer.alloc(TAR_END));
  await finished(output);
}

/** Resolves when there is room again, or when nobody reads any more. */
const drained = (output: Transform): Promise<void> =>
  new Promise((resolve) => {
    const done = () => {
      output.off("drain", done).off("close", done);
      resolve();
    };
    output.once("drain", done).once("close", done);
  });

async function writeZip(
  services: Services,
  items: readonly ArchiveItem[],
  output: Cut,
  result: ArchiveResult,
): Promise<void> {
  const zip = new ZipWriter(async (bytes) => {
    if (output.destroyed) throw new Error(BROKEN);
    if (!output.write(bytes)) await drained(output);
  });
  for await (const { reader, entry, name } of entriesOf(services, items, "zip")) {
    const target = entry.type === "link" ? Buffer.from(entry.target!, "latin1") : null;
    const member = {
      name,
      type: entry.type,
      mode: entry.mode,
      mtime: new Date(Number(entry.mtime / 1_000_000n)),
      size: target?.length ?? entry.size ?? 0,
    };
    if (target) await zip.add(member, [target]);
    else if (entry.type === "folder") await zip.add(member);
    else {
      await zip.add(member, counted(reader, entry, result));
      result.files += 1;
    }
  }
  await zip.end();
  await finished(output);
}

async function writeImage(
  services: Services,
  items: readonly ArchiveItem[],
  output: Cut,
  result: ArchiveResult,
): Promise<void> {
  const { stream } = await imageOf(services, items, (bytes) => {
    result.bytes += bytes;
  });
  for await (const part of stream) {
    if (output.destroyed) throw new Error(BROKEN);
    if (!output.write(part)) await drained(output);
  }
  result.files += 1;
  await finished(output);
}

async function writeJoined(
  services: Services,
  items: readonly ArchiveItem[],
  output: Cut,
  result: ArchiveResult,
  format: JoinedFormat,
): Promise<void> {
  const write = async (bytes: Buffer) => {
    if (output.destroyed) throw new Error(BROKEN);
    if (!output.write(bytes)) await drained(output);
  };
  const { begin, item, end, extension } = joinedFile(format);
  await write(Buffer.from(begin));
  for await (const { reader, entry } of entriesOf(services, items, format)) {
    if (entry.type !== "file" || !entry.name.toLowerCase().endsWith(extension)) continue;
    const received = new Date(Number(entry.mtime / 1_000_000n));
    for await (const part of item(counted(reader, entry, result), received)) await write(part);
    result.files += 1;
  }
  await write(Buffer.from(end));
  await finished(output);
}

/** Ends the output. Rejects where nobody reads any more. */
const finished = (output: Cut): Promise<void> =>
  new Promise((resolve, reject) => {
    output
      .once("finish", resolve)
      .once("error", reject)
      .once("close", () => reject(new Error(BROKEN)));
    output.end();
  });

async function* counted(
  reader: ChunkReader,
  entry: Walked["entry"],
  result: ArchiveResult,
): AsyncGenerator<Buffer> {
  for await (const part of piecesInTurn(reader, entry)) {
    result.bytes += part.length;
    yield part;
  }
}
