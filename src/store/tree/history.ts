import { folderEntries, sameContent, walkTree } from "../read/browse";
import type { ChunkReader } from "../read/reader";
import { type ByteString, type Entry, idKey } from "./tree";

/** What changes over the points of a source. Folders that two points share are the same node, and are read once. */

/** A tree as one point has it. */
export interface Tree<P> {
  readonly point: P;
  readonly reader: ChunkReader;
  readonly root: Uint8Array;
}

export interface Found<P> {
  readonly path: ByteString;
  readonly entry: Entry;
  /** The newest point that has it, as it was then. */
  readonly point: P;
}

/**
 * Every path in any of the trees (the newest first) that `fits`, once, as it last was; what was deleted since is found
 * where it last existed.
 */
export async function* lastSeen<P>(
  trees: readonly Tree<P>[],
  fits: (entry: Entry, path: ByteString) => boolean,
): AsyncGenerator<Found<P>> {
  const known = new Set<ByteString>();
  // a folder's node at a path: everything below it was looked at already
  const walked = new Set<string>();
  const enter = (node: Uint8Array, path: ByteString): boolean => {
    const name = `${idKey(node)} ${path}`;
    if (walked.has(name)) return false;
    walked.add(name);
    return true;
  };
  for (const tree of trees) {
    if (!enter(tree.root, "/")) continue;
    for await (const { path, entry } of walkTree(tree.reader, tree.root, "/", enter)) {
      if (known.has(path) || !fits(entry, path)) continue;
      known.add(path);
      yield { path, entry, point: tree.point };
    }
  }
}

export type ChangeKind = "added" | "removed" | "changed";
export interface Change {
  readonly kind: ChangeKind;
  readonly path: ByteString;
  /** As it is after; of what was removed, as it was before. */
  readonly entry: Entry;
  readonly before: Entry | null;
}

/**
 * What differs between two trees, in order of the names: files and links by content, folders where they came or went
 * whole, and not what lies below those. Folders that are the same node are not opened.
 */
export async function* changesBetween(before: Tree<unknown>, after: Tree<unknown>): AsyncGenerator<Change> {
  yield* differences(before, before.root, after, after.root, "/");
}

const sameNode = (a: Uint8Array, b: Uint8Array): boolean => Buffer.compare(a, b) === 0;

async function* differences(
  before: Tree<unknown>,
  beforeNode: Uint8Array,
  after: Tree<unknown>,
  afterNode: Uint8Array,
  path: ByteString,
): AsyncGenerator<Change> {
  if (sameNode(beforeNode, afterNode)) return;
  const old = folderEntries(before.reader, beforeNode);
  const now = folderEntries(after.reader, afterNode);
  let a = await old.next();
  let b = await now.next();
  while (!a.done || !b.done) {
    const was = a.done ? null : a.value;
    const is = b.done ? null : b.value;
    const below = (entry: Entry) => `${path === "/" ? "" : path}/${entry.name}`;
    if (was && (!is || was.name < is.name)) {
      yield { kind: "removed", path: below(was), entry: was, before: was };
      a = await old.next();
    } else if (is && (!was || is.name < was.name)) {
      yield { kind: "added", path: below(is), entry: is, before: null };
      b = await now.next();
    } else {
      if (was!.node && is!.node) yield* differences(before, was!.node, after, is!.node, below(is!));
      else if (!sameContent(was!, is!)) yield { kind: "changed", path: below(is!), entry: is!, before: was! };
      a = await old.next();
      b = await now.next();
    }
  }
}

/** What tells whether two files hold the same; empty files are all alike and tell nothing. */
const contentOf = (entry: Entry): string | null =>
  entry.size
    ? `${entry.size} ${Buffer.from(entry.chunks ?? "").toString("latin1")} ${Buffer.from(entry.chunkPages ?? "").toString("latin1")}`
    : null;

async function* filesBelow(reader: ChunkReader, entry: Entry): AsyncGenerator<Entry> {
  if (entry.type === "file") yield entry;
  if (entry.node)
    for await (const below of folderEntries(reader, entry.node)) yield* filesBelow(reader, below);
}

/**
 * How many files of `before` are not in `after` any more: deleted, not moved. A file whose content came to another name in
 * between was moved. Of changed files the name is still there, so they do not count.
 */
export async function countDeleted(before: Tree<unknown>, after: Tree<unknown>): Promise<number> {
  const gone: (string | null)[] = [];
  const came = new Set<string>();
  for await (const { kind, entry } of changesBetween(before, after)) {
    if (kind === "removed")
      for await (const file of filesBelow(before.reader, entry)) gone.push(contentOf(file));
    if (kind === "added")
      for await (const file of filesBelow(after.reader, entry)) {
        const content = contentOf(file);
        if (content !== null) came.add(content);
      }
  }
  return gone.filter((content) => content === null || !came.has(content)).length;
}
