import { once } from "node:events";
import { Readable, Transform, type TransformCallback } from "node:stream";
import archiver from "archiver";
import tar from "tar-stream";
import type { Point } from "@/db/points";
import { fileBytes, findEntry, type Walked, walkTree } from "@/store/browse";
import type { ChunkReader } from "@/store/reader";
import { type ByteString, type Entry, showBytes } from "@/store/tree";
import { notFound } from "./problem";
import type { Services } from "./services";

export type ArchiveFormat = "zip" | "tar";

export interface ArchiveItem {
  readonly point: Point;
  readonly path: ByteString;
  /** Goes into the name where two items have the same one. */
  readonly label: string;
}

interface ArchiveEntry extends Walked {
  readonly reader: ChunkReader;
  /** Name inside the archive: relative, without `..`. */
  readonly name: string;
}

/** Everything that goes into the archive. Names that are no UTF-8 are written with `\xHH`. */
async function* entriesOf(services: Services, items: readonly ArchiveItem[]): AsyncGenerator<ArchiveEntry> {
  const taken = new Set<string>();
  for (const { point, path, label } of items) {
    const reader = await services.spaces.ofPoint(point);
    const last = path === "/" ? "" : showBytes(path.slice(path.lastIndexOf("/") + 1));
    let top = last;
    for (let number = 1; taken.has(top); number += 1)
      top = `${label}${number > 1 ? ` ${number}` : ""}/${last}`;
    taken.add(top);
    const entry = path === "/" ? null : await findEntry(reader, point.root, path);
    if (path !== "/" && !entry) throw notFound();
    if (entry) yield { reader, path, entry, name: top };
    const node = entry ? entry.node : point.root;
    if (!node) continue;
    for await (const walked of walkTree(reader, node, path)) {
      const below = showBytes(walked.path.slice(path === "/" ? 1 : path.length + 1));
      yield { reader, ...walked, name: top ? `${top}/${below}` : below };
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

async function* piecesInTurn(reader: ChunkReader, entry: Walked["entry"]): AsyncGenerator<Buffer> {
  const pieces = fileBytes(reader, entry);
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
      : writeZip(services, items, output, result);
  const ended = written.then(() => result);
  ended.catch((error: Error) => output.destroy(error));
  return { stream: output, ended };
}

/** How long an archive is, bytes. Of a TAR that is known from its entries; a ZIP has to be made once to tell. */
export async function archiveLength(
  services: Services,
  items: readonly ArchiveItem[],
  format: ArchiveFormat,
): Promise<number> {
  if (format === "tar") {
    let length = TAR_END;
    for await (const { entry, name } of entriesOf(services, items))
      length += (await tarHeader(entry, name)).length + padded(contentLength(entry));
    return length;
  }
  const output = new Cut({ from: 0, to: 0 });
  output.resume();
  await writeZip(services, items, output, { files: 0, bytes: 0 });
  return output.passed;
}

const secondsOf = (mtime: bigint): Date => new Date(Number(mtime / 1_000_000n));
const contentLength = (entry: Entry): number => (entry.type === "file" ? (entry.size ?? 0) : 0);

/** A TAR is made of blocks of so many bytes, and ends with two that are empty. */
const TAR_BLOCK = 512;
const TAR_END = 2 * TAR_BLOCK;
const padded = (bytes: number): number => Math.ceil(bytes / TAR_BLOCK) * TAR_BLOCK;

/** What stands before the content of an entry: its header, and what does not fit into one. */
async function tarHeader(entry: Entry, name: string): Promise<Buffer> {
  const pack = tar.pack();
  const header = {
    name: entry.type === "folder" ? `${name}/` : name,
    mode: entry.mode,
    uid: entry.uid,
    gid: entry.gid,
    mtime: secondsOf(entry.mtime),
    size: contentLength(entry),
  };
  if (entry.type === "folder") pack.entry({ ...header, type: "directory" });
  else if (entry.type === "link")
    pack.entry({ ...header, type: "symlink", linkname: showBytes(entry.target!) });
  else pack.entry({ ...header, type: "file" });
  await once(pack, "readable");
  const parts: Buffer[] = [];
  for (let bytes = pack.read(); bytes; bytes = pack.read()) parts.push(bytes as Buffer);
  pack.destroy();
  return Buffer.concat(parts);
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
  for await (const { reader, entry, name } of entriesOf(services, items)) {
    if (at >= to) break;
    await write(await tarHeader(entry, name));
    const length = contentLength(entry);
    if (at + padded(length) <= from) {
      step(padded(length));
      continue;
    }
    if (length > 0)
      for await (const part of piecesInTurn(reader, entry)) {
        await write(part);
        result.bytes += part.length;
      }
    if (padded(length) > length) await write(Buffer.alloc(padded(length) - length));
    if (entry.type === "file") result.files += 1;
  }
  if (at < to) await write(Buffer.alloc(TAR_END));
  await new Promise<void>((resolve, reject) => {
    output
      .once("finish", resolve)
      .once("error", reject)
      .once("close", () => reject(new Error(BROKEN)));
    output.end();
  });
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
  const zip = archiver("zip", { zlib: { level: 1 }, forceZip64: false });
  let failure: unknown = null;
  zip.on("error", (error) => {
    failure = error;
  });
  output.once("close", () => zip.abort());
  const piped = new Promise<void>((resolve, reject) => {
    output
      .once("finish", resolve)
      .once("error", reject)
      .once("close", () => reject(new Error(BROKEN)));
  });
  piped.catch(() => {});
  zip.pipe(output);
  for await (const { reader, entry, name } of entriesOf(services, items)) {
    if (failure || output.destroyed) throw failure ?? new Error(BROKEN);
    const data = { name, date: secondsOf(entry.mtime), mode: entry.mode };
    if (entry.type === "folder") zip.append("", { ...data, name: `${name}/` });
    else if (entry.type === "link") zip.symlink(name, showBytes(entry.target!), entry.mode);
    else {
      // one file after another: the archive never holds more than one open stream
      const watch = new AbortController();
      const written = new Promise<void>((resolve, reject) => {
        const once = { signal: watch.signal };
        addAbortable(zip, "entry", () => resolve(), once);
        addAbortable(zip, "error", reject, once);
        addAbortable(output, "close", () => reject(new Error(BROKEN)), once);
      });
      zip.append(Readable.from(counted(reader, entry, result), { objectMode: false }), data);
      await written.finally(() => watch.abort());
      result.files += 1;
    }
  }
  await zip.finalize();
  await piped;
}

/** Hears an event until a signal says that it is over: thousands of files come by, and none may leave a listener. */
function addAbortable(
  from: NodeJS.EventEmitter,
  event: string,
  hear: (value: never) => void,
  { signal }: { signal: AbortSignal },
): void {
  from.on(event, hear as () => void);
  signal.addEventListener("abort", () => from.off(event, hear as () => void), { once: true });
}

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
