import { PassThrough, Readable } from "node:stream";
import archiver from "archiver";
import tar from "tar-stream";
import type { Point } from "@/db/points";
import { fileBytes, findEntry, type Walked, walkTree } from "@/store/browse";
import type { ChunkReader } from "@/store/reader";
import { type ByteString, showBytes } from "@/store/tree";
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

/** Streams an archive. `ended` resolves when the last byte is out, and rejects when it broke off. */
export function streamArchive(
  services: Services,
  items: readonly ArchiveItem[],
  format: ArchiveFormat,
): { stream: Readable; ended: Promise<ArchiveResult> } {
  const output = new PassThrough();
  const result: ArchiveResult = { files: 0, bytes: 0 };
  const write = format === "tar" ? writeTar : writeZip;
  const ended = write(services, items, output, result).then(() => result);
  ended.catch((error: Error) => output.destroy(error));
  return { stream: output, ended };
}

const secondsOf = (mtime: bigint): Date => new Date(Number(mtime / 1_000_000n));

async function writeTar(
  services: Services,
  items: readonly ArchiveItem[],
  output: PassThrough,
  result: ArchiveResult,
): Promise<void> {
  const pack = tar.pack();
  const piped = new Promise<void>((resolve, reject) => {
    output
      .once("finish", resolve)
      .once("error", reject)
      .once("close", () => reject(new Error("the download was broken off")));
  });
  piped.catch(() => {});
  pack.on("error", () => {});
  output.once("close", () => pack.destroy(new Error("the download was broken off")));
  pack.pipe(output);
  for await (const { reader, entry, name } of entriesOf(services, items)) {
    const header = {
      name: entry.type === "folder" ? `${name}/` : name,
      mode: entry.mode,
      uid: entry.uid,
      gid: entry.gid,
      mtime: secondsOf(entry.mtime),
    };
    if (entry.type === "folder") pack.entry({ ...header, type: "directory" });
    else if (entry.type === "link")
      pack.entry({ ...header, type: "symlink", linkname: showBytes(entry.target!) });
    else {
      const sink = pack.entry({ ...header, type: "file", size: entry.size ?? 0 });
      for await (const part of piecesInTurn(reader, entry)) {
        if (output.destroyed) throw new Error("the download was broken off");
        result.bytes += part.length;
        if (!sink.write(part)) await drained(sink, output);
      }
      (sink as NodeJS.WritableStream).end();
      result.files += 1;
    }
  }
  pack.finalize();
  await piped;
}

const drained = (sink: NodeJS.EventEmitter, output: PassThrough): Promise<void> =>
  new Promise((resolve) => {
    const done = () => {
      sink.off("drain", done);
      output.off("close", done);
      resolve();
    };
    sink.once("drain", done);
    output.once("close", done);
  });

async function writeZip(
  services: Services,
  items: readonly ArchiveItem[],
  output: PassThrough,
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
      .once("close", () => reject(new Error("the download was broken off")));
  });
  piped.catch(() => {});
  zip.pipe(output);
  for await (const { reader, entry, name } of entriesOf(services, items)) {
    if (failure || output.destroyed) throw failure ?? new Error("the download was broken off");
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
        addAbortable(output, "close", () => reject(new Error("the download was broken off")), once);
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
