import { within } from "@/core/rights/within";
import { foldersOn, type Home } from "@/core/selection/known-places";
import { namePattern } from "@/core/selection/pattern";
import { compileSelection, type FileSelection, outermostFolders } from "@/core/selection/selection";
import type { Point } from "@/db/points/points";
import {
  countEntries,
  fileBytes,
  findEntry,
  findFolder,
  folderEntries,
  sameContent,
  walkTree,
} from "@/store/read/browse";
import type { ChunkReader } from "@/store/read/reader";
import { type ChangeKind, changesBetween, lastSeen, type Tree } from "@/store/tree/history";
import { type ByteString, byteString, type Entry, showBytes } from "@/store/tree/tree";
import { notFound } from "../base/problem";
import type { Services } from "../base/services";
import { pathToText } from "./path-text";

/** Looking inside recovery points, unsealed on the server with the client's key in escrow. */
export interface ShownEntry {
  /** For people; bytes that are no UTF-8 are shown as `\xHH`. */
  readonly name: string;
  /** For the API: docs/api.md, paths of any bytes. */
  readonly path: string;
  readonly type: Entry["type"];
  readonly size: number | null;
  readonly modified: string;
  readonly mode: string;
  readonly target: string | null;
  /** Folders: how many entries they have. */
  readonly items: number | null;
}

async function shown(reader: ChunkReader, path: ByteString, entry: Entry): Promise<ShownEntry> {
  return {
    name: showBytes(entry.name),
    path: pathToText(path),
    type: entry.type,
    size: entry.size ?? null,
    modified: new Date(Number(entry.mtime / 1_000_000n)).toISOString(),
    mode: entry.mode.toString(8).padStart(4, "0"),
    target: entry.target === undefined ? null : showBytes(entry.target),
    items: entry.node ? await countEntries(reader, entry.node) : null,
  };
}

/** A page of a folder, in order of the names. `next` continues it. */
export async function listFolder(
  services: Services,
  point: Point,
  path: ByteString,
  after: string | undefined,
  limit: number,
) {
  const reader = await services.spaces.at(point, path);
  const node = await findFolder(reader, point.root, path);
  if (!node) throw notFound();
  const base = path === "/" ? "" : path;
  const entries: ShownEntry[] = [];
  const from = after === undefined ? undefined : Buffer.from(after, "base64url").toString("latin1");
  for await (const entry of folderEntries(reader, node, from)) {
    if (entries.length === limit) {
      const last = entries.at(-1)!.path;
      const bytes = last.startsWith("~")
        ? Buffer.from(last.slice(1), "base64url").toString("latin1")
        : byteString(last);
      return {
        entries,
        total: await countEntries(reader, node),
        next: Buffer.from(bytes.slice(bytes.lastIndexOf("/") + 1), "latin1").toString("base64url"),
      };
    }
    entries.push(await shown(reader, `${base}/${entry.name}`, entry));
  }
  return { entries, total: await countEntries(reader, node), next: null };
}

const SEARCH_MOST = 200;

/** Whether a name is meant: a part of it, small and capital letters as one, or a whole pattern with `*` and `?`. */
function nameFits(words: string): (name: ByteString) => boolean {
  if (/[*?]/.test(words)) {
    const fits = namePattern(words, { ignoreCase: true });
    return (name) => fits(showBytes(name));
  }
  const wanted = words.toLowerCase();
  return (name) => showBytes(name).toLowerCase().includes(wanted);
}

/** What is searched for; everything that is given must fit. */
export interface Wanted {
  /** A part of the name, or a whole pattern with `*` and `?`. */
  readonly name?: string | undefined;
  /** Files of so many bytes at least, and at most. */
  readonly sizeFrom?: number | undefined;
  readonly sizeTo?: number | undefined;
  /** Last changed not before, and before. */
  readonly changedFrom?: Date | undefined;
  readonly changedTo?: Date | undefined;
}

/** Whether an entry is what is searched for. Folders have no size: by size only files are found. */
function wantedFits(wanted: Wanted): (entry: Entry) => boolean {
  const named = wanted.name === undefined ? () => true : nameFits(wanted.name);
  const { sizeFrom, sizeTo } = wanted;
  const bySize = sizeFrom !== undefined || sizeTo !== undefined;
  const nanoseconds = (moment: Date) => BigInt(moment.getTime()) * 1_000_000n;
  const from = wanted.changedFrom && nanoseconds(wanted.changedFrom);
  const to = wanted.changedTo && nanoseconds(wanted.changedTo);
  return (entry) => {
    if (bySize) {
      if (entry.type !== "file") return false;
      const size = entry.size ?? 0;
      if (size < (sizeFrom ?? 0) || size > (sizeTo ?? size)) return false;
    }
    if (from !== undefined && entry.mtime < from) return false;
    if (to !== undefined && entry.mtime >= to) return false;
    return named(entry.name);
  };
}

/** Entries below a folder that fit; at most 200, and says when there are more. */
export async function searchPoint(services: Services, point: Point, wanted: Wanted, below: ByteString = "/") {
  const reader = await services.spaces.at(point, below);
  const fits = wantedFits(wanted);
  const entries: ShownEntry[] = [];
  let looked = 0;
  const node = await findFolder(reader, point.root, below);
  if (!node) return { entries, looked, more: false };
  for await (const { path, entry } of walkTree(reader, node, below)) {
    looked += 1;
    if (!fits(entry)) continue;
    if (entries.length === SEARCH_MOST) return { entries, looked, more: true };
    entries.push(await shown(reader, path, entry));
  }
  return { entries, looked, more: false };
}

/** An entry with the newest moment that has it. */
export interface LastEntry extends ShownEntry {
  readonly pointId: string;
  readonly moment: Date;
}

/** The same over all points of a source (newest first): each path once, as it last was. */
export async function searchPoints(
  services: Services,
  points: readonly Point[],
  wanted: Wanted,
  below: ByteString = "/",
) {
  const fits = wantedFits(wanted);
  const entries: LastEntry[] = [];
  let looked = 0;
  const trees = await treesOf(services, points);
  const readerOf = new Map(trees.map((tree) => [tree.point, tree.reader]));
  for await (const { path, entry, point } of lastSeen(trees, (candidate, at) => {
    looked += 1;
    return within(below, at) && fits(candidate);
  })) {
    if (entries.length === SEARCH_MOST) return { entries, looked, more: true };
    entries.push({
      ...(await shown(readerOf.get(point)!, path, entry)),
      pointId: point.id.toString("hex"),
      moment: point.moment,
    });
  }
  return { entries, looked, more: false };
}

async function treesOf(services: Services, points: readonly Point[]): Promise<Tree<Point>[]> {
  const readers = await services.spaces.ofPoints(points);
  return points.map((point, i) => ({ point, reader: readers[i]!, root: point.root }));
}

const CHANGES_MOST = 1000;

/** What differs between two points of a source; at most 1,000, and says when there are more. */
export async function changesOf(services: Services, before: Point, after: Point) {
  const [old, now] = await treesOf(services, [before, after]);
  const changes: (ShownEntry & { kind: ChangeKind; sizeBefore: number | null })[] = [];
  for await (const { kind, path, entry, before: was } of changesBetween(old!, now!)) {
    if (changes.length === CHANGES_MOST) return { changes, more: true };
    changes.push({
      ...(await shown((kind === "removed" ? old : now)!.reader, path, entry)),
      kind,
      sizeBefore: was?.size ?? null,
    });
  }
  return { changes, more: false };
}

export interface Version {
  /** The newest point that holds this version, and since when it was so. */
  readonly pointId: string;
  readonly moment: Date;
  readonly firstSeen: Date;
  readonly size: number | null;
  readonly modified: string;
  /** Against the version before it; null for the first. */
  readonly sizeChange: number | null;
}

/** The versions of a path over points (newest first), one for each different content. */
export async function versionsOf(
  services: Services,
  points: readonly Point[],
  path: ByteString,
): Promise<Version[]> {
  const versions: { entry: Entry; newest: Point; oldest: Point }[] = [];
  for (const { point, reader: base } of await treesOf(services, points)) {
    const reader = await services.spaces.within(base, point, path);
    const entry = await findEntry(reader, point.root, path);
    if (!entry) continue;
    const last = versions.at(-1);
    if (last && sameContent(last.entry, entry)) last.oldest = point;
    else versions.push({ entry, newest: point, oldest: point });
  }
  return versions.map(({ entry, newest, oldest }, i) => ({
    pointId: newest.id.toString("hex"),
    moment: newest.moment,
    firstSeen: oldest.moment,
    size: entry.size ?? null,
    modified: new Date(Number(entry.mtime / 1_000_000n)).toISOString(),
    sizeChange:
      versions[i + 1] && entry.size !== undefined ? entry.size - (versions[i + 1]!.entry.size ?? 0) : null,
  }));
}

/** What a file takes where it is restored: holes take nothing. */
const bytesOnDisk = ({ size, extents }: Entry): number =>
  extents ? extents.reduce((sum, [, length]) => sum + length, 0) : (size ?? 0);

/** How much a set of paths holds: the room that it takes where it is restored. */
export async function weigh(
  services: Services,
  items: readonly { point: Point; path: ByteString }[],
): Promise<{ files: number; bytes: number }> {
  let files = 0;
  let bytes = 0;
  const readers = await services.spaces.ofPoints(items.map((item) => item.point));
  for (const [i, { point, path }] of items.entries()) {
    const reader = await services.spaces.within(readers[i]!, point, path);
    const entry = path === "/" ? null : await findEntry(reader, point.root, path);
    if (path !== "/" && !entry) throw notFound();
    const counted = new Set<string>();
    const count = (one: Entry) => {
      if (one.type !== "file") return;
      files += 1;
      // several names of one file are written once
      if (one.sameFile && counted.has(one.sameFile)) return;
      if (one.sameFile) counted.add(one.sameFile);
      bytes += bytesOnDisk(one);
    };
    if (entry) count(entry);
    const node = entry ? entry.node : point.root;
    if (node) for await (const walked of walkTree(reader, node, path)) count(walked.entry);
  }
  return { files, bytes };
}

/** The homes in a point: it may hold no list of accounts, so those below `/home` and `/root`, with their own lists. */
async function homesIn(reader: ChunkReader, root: Uint8Array): Promise<Home[]> {
  const paths: ByteString[] = [];
  const folder = await findFolder(reader, root, "/home");
  if (folder)
    for await (const entry of folderEntries(reader, folder))
      if (entry.node) paths.push(`/home/${entry.name}`);
  if (await findFolder(reader, root, "/root")) paths.push("/root");
  const homes: Home[] = [];
  for (const path of paths) {
    const list = await findEntry(reader, root, `${path}/.config/user-dirs.dirs`);
    const parts: Buffer[] = [];
    if (list?.type === "file") for await (const part of fileBytes(reader, list, 0, 16_384)) parts.push(part);
    homes.push({
      path: showBytes(path),
      userDirs: parts.length ? Buffer.concat(parts).toString("utf8") : null,
    });
  }
  return homes;
}

const LARGEST_SHOWN = 8;

/**
 * What a selection takes of the files in a point, and what it leaves: counts, bytes, the largest files that are left, and
 * chosen folders that the point does not have.
 */
export async function testSelection(services: Services, point: Point, selection: FileSelection, now: Date) {
  const reader = await services.spaces.ofPoint(point);
  const selector = compileSelection(selection, now);
  const folders = outermostFolders(foldersOn(selection.folders, await homesIn(reader, point.root)));
  const within = (path: string) =>
    folders.some((folder) => folder === "/" || path === folder || path.startsWith(`${folder}/`));
  const onTheWay = (path: string) => folders.some((folder) => folder.startsWith(`${path}/`));
  const taken = { files: 0, bytes: 0 };
  const left = { files: 0, bytes: 0 };
  const largestLeft: { path: string; size: number }[] = [];
  // a known place that a home does not have is no mistake
  const missing = new Set(folders.filter((folder) => selection.folders.includes(folder)));
  missing.delete("/");
  const leftOut: string[] = [];
  for await (const { path, entry } of walkTree(reader, point.root, "/")) {
    const shownPath = showBytes(path);
    missing.delete(shownPath);
    const below = leftOut.at(-1);
    if (below !== undefined && !shownPath.startsWith(`${below}/`)) leftOut.pop();
    const inside = leftOut.length > 0 && shownPath.startsWith(`${leftOut.at(-1)}/`);
    if (entry.type === "folder") {
      if (!inside && within(shownPath) && !folders.includes(shownPath) && !selector.takesFolder(shownPath))
        leftOut.push(shownPath);
      continue;
    }
    if (entry.type !== "file" || onTheWay(shownPath)) continue;
    const size = entry.size ?? 0;
    if (!inside && within(shownPath) && selector.takesFile(shownPath, size, entry.mtime)) {
      taken.files += 1;
      taken.bytes += size;
      continue;
    }
    left.files += 1;
    left.bytes += size;
    largestLeft.push({ path: shownPath, size });
    if (largestLeft.length > LARGEST_SHOWN * 8) {
      largestLeft.sort((a, b) => b.size - a.size);
      largestLeft.length = LARGEST_SHOWN;
    }
  }
  largestLeft.sort((a, b) => b.size - a.size);
  return {
    moment: point.moment.toISOString(),
    taken,
    left,
    largestLeft: largestLeft.slice(0, LARGEST_SHOWN),
    missing: [...missing],
  };
}
