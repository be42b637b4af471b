import { CodedError } from "@/core/codes";
import { countEntries, fileBytes, findEntry, findFolder, folderEntries, walkTree } from "@/store/read/browse";
import type { ChunkReader } from "@/store/read/reader";
import { type ByteString, type Entry, showBytes } from "@/store/tree/tree";
import { HEAD_BYTES, type MessageHead, messageHead, SHOWN_BYTES, searchedTexts } from "./message";
import { KEYWORDS, NAME, ROLE } from "./names";
import { fitsHead, fitsListing, type MessageSearch, missingWords } from "./search";

/** Looking into a recovery point of a mailbox as mail: folders, messages, their heads. */

export interface PointFolder {
  readonly path: ByteString;
  readonly name: string;
  readonly role: string | null;
  /** 0 at the top. */
  readonly depth: number;
  /** Messages in it, without those of folders below. */
  readonly messages: number;
}

export interface ListedMessage extends MessageHead {
  readonly path: ByteString;
  /** ISO 8601. */
  readonly received: string;
  readonly size: number;
  readonly keywords: readonly string[];
}

const FOLDERS_MOST = 5000;
/** Heads are read so many at once. */
const AT_ONCE = 8;
/** A search without an index ends after so long, and says so. */
const SEARCH_MS = 15_000;
const FOUND_MOST = 200;
/** Of a message's text so much is searched. */
const SEARCHED_BYTES = 256 * 1024;

const textOf = (entry: Entry, name: string): string | null => {
  const value = entry.xattrs?.find(([key]) => key === name)?.[1];
  return value ? Buffer.from(value).toString("utf8") : null;
};
const receivedMs = (entry: Entry): number => Number(entry.mtime / 1_000_000n);

/** The folders of a mailbox in the order of their paths; 5,000 at most. */
export async function mailFolders(reader: ChunkReader, root: Uint8Array): Promise<PointFolder[]> {
  const folders: PointFolder[] = [];
  for await (const { path, entry } of walkTree(reader, root, "/")) {
    if (entry.type !== "folder" || !entry.node) continue;
    if (folders.length === FOLDERS_MOST) break;
    let below = 0;
    for await (const inside of folderEntries(reader, entry.node)) if (inside.type === "folder") below += 1;
    folders.push({
      path,
      name: textOf(entry, NAME) ?? showBytes(entry.name),
      role: textOf(entry, ROLE),
      depth: path.split("/").length - 2,
      messages: (await countEntries(reader, entry.node)) - below,
    });
  }
  return folders;
}

async function headBytes(reader: ChunkReader, entry: Entry, most: number): Promise<Buffer> {
  const parts: Buffer[] = [];
  for await (const part of fileBytes(reader, entry, 0, Math.min(most, entry.size ?? 0))) parts.push(part);
  return Buffer.concat(parts);
}

async function described(reader: ChunkReader, path: ByteString, entry: Entry): Promise<ListedMessage> {
  return {
    ...(await messageHead(await headBytes(reader, entry, HEAD_BYTES))),
    path,
    received: new Date(receivedMs(entry)).toISOString(),
    size: entry.size ?? 0,
    keywords: textOf(entry, KEYWORDS)?.split(" ").filter(Boolean) ?? [],
  };
}

async function mapped<T, R>(list: readonly T[], work: (one: T) => Promise<R>): Promise<R[]> {
  const made: R[] = [];
  for (let at = 0; at < list.length; at += AT_ONCE)
    made.push(...(await Promise.all(list.slice(at, at + AT_ONCE).map(work))));
  return made;
}

/** Newest first; of one moment, in the order of the names. */
const byNewest = (a: MessagePosition, b: MessagePosition): number =>
  a.mtime === b.mtime ? (a.name < b.name ? -1 : Number(a.name > b.name)) : a.mtime > b.mtime ? -1 : 1;
const cursorOf = ({ mtime, name }: Entry): ByteString => `${mtime} ${name}`;
/** Where a list of messages goes on. */
export type MessagePosition = Pick<Entry, "mtime" | "name">;
/** Reads the `next` of a page; null where it is none. */
export function positionOf(cursor: ByteString): MessagePosition | null {
  const [, mtime, name] = /^(-?\d{1,20}) (.*)$/s.exec(cursor) ?? [];
  return mtime === undefined ? null : { mtime: BigInt(mtime), name: name! };
}

/**
 * A page of a folder's messages, newest first, from after `after` on; its `next` is read by `positionOf`. Null: no such folder.
 */
export async function listMessages(
  reader: ChunkReader,
  root: Uint8Array,
  path: ByteString,
  from: MessagePosition | null,
  limit: number,
): Promise<{ messages: ListedMessage[]; total: number; next: ByteString | null } | null> {
  const node = await findFolder(reader, root, path);
  if (!node) return null;
  let page: Entry[] = [];
  let total = 0;
  for await (const entry of folderEntries(reader, node)) {
    if (entry.type !== "file") continue;
    total += 1;
    if (from && byNewest(entry, from) <= 0) continue;
    page.push(entry);
    // of a large folder never more than a few pages are held
    if (page.length > 8 * (limit + 1)) page = page.sort(byNewest).slice(0, limit + 1);
  }
  const base = path === "/" ? "" : path;
  const newest = page.sort(byNewest).slice(0, limit);
  const more = page.length > limit;
  return {
    messages: await mapped(newest, (entry) => described(reader, `${base}/${entry.name}`, entry)),
    total,
    next: more ? cursorOf(newest.at(-1)!) : null,
  };
}

/**
 * Messages of a recovery point that fit, newest first as far as folders go. It reads heads, and texts where words ask for it,
 * for 15 seconds at most; `looked` of `of` says how far it came.
 */
export async function searchMessages(
  reader: ChunkReader,
  root: Uint8Array,
  search: MessageSearch,
  below: ByteString = "/",
  now: () => number = () => performance.now(),
): Promise<{ messages: ListedMessage[]; looked: number; of: number; more: boolean }> {
  const candidates: { path: ByteString; entry: Entry }[] = [];
  let of = 0;
  const node = await findFolder(reader, root, below);
  if (!node) return { messages: [], looked: 0, of: 0, more: false };
  for await (const { path, entry } of walkTree(reader, node, below)) {
    if (entry.type !== "file") continue;
    of += 1;
    if (fitsListing(search, receivedMs(entry), entry.size ?? 0)) candidates.push({ path, entry });
  }
  candidates.sort((a, b) => (a.entry.mtime > b.entry.mtime ? -1 : 1));
  const messages: ListedMessage[] = [];
  const ends = now() + SEARCH_MS;
  let looked = of - candidates.length;
  for (let at = 0; at < candidates.length; at += AT_ONCE) {
    if (now() > ends || messages.length >= FOUND_MOST) return { messages, looked, of, more: true };
    const group = candidates.slice(at, at + AT_ONCE);
    const fitting = await Promise.all(
      group.map(({ path, entry }) => fittingMessage(reader, path, entry, search)),
    );
    messages.push(...fitting.filter((one) => one !== null));
    looked += group.length;
  }
  return { messages, looked, of, more: false };
}

async function fittingMessage(
  reader: ChunkReader,
  path: ByteString,
  entry: Entry,
  search: MessageSearch,
): Promise<ListedMessage | null> {
  const head = await described(reader, path, entry);
  if (!fitsHead(search, head)) return null;
  const missing = missingWords(search, [head.subject, head.from, ...head.to, ...head.cc]);
  if (missing.length === 0 && !search.attachment) return head;
  const searched = await searchedTexts(await headBytes(reader, entry, SEARCHED_BYTES));
  if (search.attachment && !(searched?.attachments ?? head.attachment)) return null;
  return missingWords({ ...search, words: missing }, searched?.texts ?? []).length === 0 ? head : null;
}

/** The beginning of one message, and its size. Null where there is none. Throws `file.unreadable`. */
export async function messageBytes(
  reader: ChunkReader,
  root: Uint8Array,
  path: ByteString,
  most = SHOWN_BYTES,
): Promise<{ bytes: Buffer; size: number; entry: Entry } | null> {
  const entry = await findEntry(reader, root, path);
  if (entry?.type !== "file") return null;
  try {
    return { bytes: await headBytes(reader, entry, most), size: entry.size ?? 0, entry };
  } catch (error) {
    if (error instanceof CodedError) throw error;
    throw new CodedError("file.unreadable", (error as Error).message);
  }
}
