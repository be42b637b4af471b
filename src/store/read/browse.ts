import { CodedError } from "@/core/codes";
import { splitIds } from "../seal/identity";
import type { ByteString, Entry } from "../tree/tree";
import type { ChunkReader } from "./reader";

/** Reading inside recovery points: folders, paths, content. Paths are byte strings that begin with `/`. */

/** All entries of a folder in order of their names, page by page, from after `after` on. */
export async function* folderPages(
  reader: ChunkReader,
  node: Uint8Array,
  after?: ByteString,
): AsyncGenerator<readonly Entry[]> {
  const content = await reader.node(node);
  if (content.kind === "folder") {
    yield after === undefined ? content.entries : content.entries.filter((entry) => entry.name > after);
    return;
  }
  if (content.kind !== "pages") throw new CodedError("store.damaged", "a folder is not a folder");
  for (let i = 0; i < content.pages.length; i += 1) {
    const next = content.pages[i + 1];
    if (after !== undefined && next && next.first <= after) continue;
    yield* folderPages(reader, content.pages[i]!.node, after);
  }
}

/** The same entry by entry. */
export async function* folderEntries(
  reader: ChunkReader,
  node: Uint8Array,
  after?: ByteString,
): AsyncGenerator<Entry> {
  for await (const page of folderPages(reader, node, after)) yield* page;
}

/** How many entries a folder has, without reading its pages. */
export async function countEntries(reader: ChunkReader, node: Uint8Array): Promise<number> {
  const content = await reader.node(node);
  if (content.kind === "folder") return content.entries.length;
  if (content.kind === "pages") return content.pages.reduce((sum, page) => sum + page.count, 0);
  throw new CodedError("store.damaged", "a folder is not a folder");
}

async function childOf(reader: ChunkReader, node: Uint8Array, name: ByteString): Promise<Entry | null> {
  const content = await reader.node(node);
  if (content.kind === "folder") return content.entries.find((entry) => entry.name === name) ?? null;
  if (content.kind !== "pages") throw new CodedError("store.damaged", "a folder is not a folder");
  const page = content.pages.findLast((candidate) => candidate.first <= name);
  return page ? childOf(reader, page.node, name) : null;
}

/** The entry of a path, or null where there is none. The path `/` has no entry: use the root. */
export async function findEntry(
  reader: ChunkReader,
  root: Uint8Array,
  path: ByteString,
): Promise<Entry | null> {
  const names = path.split("/").filter(Boolean);
  let node: Uint8Array | undefined = root;
  let entry: Entry | null = null;
  for (const name of names) {
    if (!node) return null;
    entry = await childOf(reader, node, name);
    if (!entry) return null;
    node = entry.node;
  }
  return entry;
}

/** The node of a folder's path, or null where there is no such folder. */
export async function findFolder(
  reader: ChunkReader,
  root: Uint8Array,
  path: ByteString,
): Promise<Uint8Array | null> {
  if (path === "/" || path === "") return root;
  return (await findEntry(reader, root, path))?.node ?? null;
}

export interface Walked {
  readonly path: ByteString;
  readonly entry: Entry;
}

/** A folder on the way of a walk: its entries at hand, and the pages of it that are still to come. */
interface Frame {
  readonly base: ByteString;
  entries: readonly Entry[];
  at: number;
  pages: readonly Uint8Array[];
}
/** How long a walk goes on before others have their turn: what lies in memory is read without waiting for anything. */
const WALK_SLICE_MS = 20;

/** Entries of one folder that a walk comes to one after another, from `from` to before `to`; the last one may be a folder. */
interface Run {
  /** Path of the folder, without a slash at its end. */
  readonly base: ByteString;
  readonly entries: readonly Entry[];
  readonly from: number;
  readonly to: number;
}

/**
 * Everything below a folder, each folder before what is in it; what is in a folder only when it is to be entered, which is
 * asked when its run has passed.
 */
export async function* walkRuns(
  reader: ChunkReader,
  node: Uint8Array,
  path: ByteString,
  enter: (node: Uint8Array, path: ByteString) => boolean = () => true,
): AsyncGenerator<Run> {
  let sliceEnds = performance.now() + WALK_SLICE_MS;
  const stack: Frame[] = [{ base: path === "/" ? "" : path, entries: [], at: 0, pages: [node] }];
  for (let frame = stack.at(-1); frame; frame = stack.at(-1)) {
    const { base, entries, at } = frame;
    if (at < entries.length) {
      let to = at + 1;
      while (!entries[to - 1]!.node && to < entries.length) to += 1;
      frame.at = to;
      yield { base, entries, from: at, to };
      const last = entries[to - 1]!;
      const lastPath = `${base}/${last.name}`;
      if (last.node && enter(last.node, lastPath))
        stack.push({ base: lastPath, entries: [], at: 0, pages: [last.node] });
      continue;
    }
    const [page, ...others] = frame.pages;
    if (!page) {
      stack.pop();
      continue;
    }
    if (performance.now() > sliceEnds) {
      await new Promise(setImmediate);
      sliceEnds = performance.now() + WALK_SLICE_MS;
    }
    const content = await reader.node(page);
    if (content.kind === "chunks") throw new CodedError("store.damaged", "a folder is not a folder");
    frame.at = 0;
    frame.entries = content.kind === "folder" ? content.entries : [];
    frame.pages = content.kind === "folder" ? others : [...content.pages.map((one) => one.node), ...others];
  }
}

/** The same entry by entry. */
export async function* walkTree(
  reader: ChunkReader,
  node: Uint8Array,
  path: ByteString,
  enter?: (node: Uint8Array, path: ByteString) => boolean,
): AsyncGenerator<Walked> {
  for await (const { base, entries, from, to } of walkRuns(reader, node, path, enter))
    for (let i = from; i < to; i += 1) yield { path: `${base}/${entries[i]!.name}`, entry: entries[i]! };
}

/** Ids of the chunks of a file in order, list by list: of a file of terabytes they are millions. */
export async function* chunkLists(reader: ChunkReader, entry: Entry): AsyncGenerator<readonly Uint8Array[]> {
  if (entry.chunks) yield splitIds(entry.chunks);
  else if (entry.chunkPages)
    for (const page of splitIds(entry.chunkPages)) {
      const node = await reader.node(page);
      if (node.kind !== "chunks") throw new CodedError("store.damaged", "a chunk list is not a chunk list");
      yield splitIds(node.ids);
    }
}

/** Ids of the chunks of a file in order, for reading them: where many lie is asked with one question. */
export async function* chunksOf(reader: ChunkReader, entry: Entry): AsyncGenerator<Uint8Array> {
  for await (const ids of chunkLists(reader, entry)) {
    if (ids.length > 1) await reader.locate(ids);
    yield* ids;
  }
}

/** A piece of a file's content: where it belongs, and its bytes. Holes are left out. */
export interface Piece {
  readonly offset: number;
  readonly bytes: Buffer;
}

/**
 * The content of a file as pieces in order; with a range, of the bytes from `from` to before `to` alone. Chunks that lie
 * before it are not read: their lengths stand in the packs' directories.
 */
export async function* filePieces(
  reader: ChunkReader,
  entry: Entry,
  from = 0,
  to = Number.POSITIVE_INFINITY,
): AsyncGenerator<Piece> {
  const extents = entry.extents ?? [[0, entry.size ?? 0]];
  let place = 0;
  let [offset, left] = extents[0] ?? [0, 0];
  for await (const id of chunksOf(reader, entry)) {
    const next = left > 0 ? offset : extents[place + 1]?.[0];
    if (next !== undefined && next >= to) return;
    let content = offset >= from ? await reader.chunk(id) : null;
    const length = content?.length ?? (await reader.length(id));
    for (let done = 0; done < length; ) {
      while (left === 0) {
        place += 1;
        const extent = extents[place];
        if (!extent) throw new CodedError("store.damaged", "a file has more content than its length");
        [offset, left] = extent;
      }
      if (offset >= to) return;
      const part = Math.min(left, length - done);
      if (offset + part > from) {
        content ??= await reader.chunk(id);
        const [cut, end] = [Math.max(0, from - offset), Math.min(part, to - offset)];
        yield { offset: offset + cut, bytes: content.subarray(done + cut, done + end) };
      }
      offset += part;
      left -= part;
      done += part;
    }
  }
  if (left !== 0 || place < extents.length - 1) {
    if (extents.slice(place + 1).some(([, length]) => length > 0) || left !== 0)
      throw new CodedError("store.damaged", "a file has less content than its length");
  }
}

const ZEROS = Buffer.alloc(64 * 1024);

/** The content of a file, or the bytes from `from` to before `before`, as one run; holes are zeros. */
export async function* fileBytes(
  reader: ChunkReader,
  entry: Entry,
  from = 0,
  before = Number.POSITIVE_INFINITY,
): AsyncGenerator<Buffer> {
  const to = Math.min(before, entry.size ?? 0);
  let at = from;
  const zerosUpTo = function* (end: number) {
    while (at < end) {
      const part = ZEROS.subarray(0, Math.min(ZEROS.length, end - at));
      at += part.length;
      yield part;
    }
  };
  for await (const piece of filePieces(reader, entry, from, to)) {
    yield* zerosUpTo(piece.offset);
    yield piece.bytes;
    at = piece.offset + piece.bytes.length;
  }
  yield* zerosUpTo(to);
}

/** Whether two entries of a file hold the same content. */
export function sameContent(a: Entry, b: Entry): boolean {
  const equal = (x?: Uint8Array, y?: Uint8Array) => (x && y ? Buffer.compare(x, y) === 0 : !x && !y);
  return (
    a.type === b.type &&
    a.size === b.size &&
    a.target === b.target &&
    equal(a.chunks, b.chunks) &&
    equal(a.chunkPages, b.chunkPages) &&
    JSON.stringify(a.extents) === JSON.stringify(b.extents)
  );
}
