import { CodedError } from "@/core/codes";
import { countEntries, fileBytes, findEntry, findFolder, folderEntries, walkTree } from "@/store/read/browse";
import type { ChunkReader } from "@/store/read/reader";
import { type ByteString, type Entry, showBytes } from "@/store/tree/tree";
import { DAV_KINDS, EXTENSION } from "./dav-kinds";
import { HEAD_BYTES, type MessageHead, messageHead, SHOWN_BYTES, searchedTexts } from "./message";
import { KEYWORDS, NAME, ROLE, START, TITLE } from "./names";
import { fitsHead, fitsListing, type MessageSearch, missingWords } from "./search";

/** Looking into a recovery point of a mailbox as mail: folders, messages, their heads. */

/** What an item of a mailbox is. */
export const ITEM_KINDS = ["message", ...DAV_KINDS] as const;
export type ItemKind = (typeof ITEM_KINDS)[number];
/** What an item is, by its name. */
export const itemKindOf = (name: ByteString): ItemKind =>
  DAV_KINDS.find((kind) => name.toLowerCase().endsWith(`.${EXTENSION[kind]}`)) ?? "message";

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
  readonly holds: ItemKind;
  /** ISO 8601: when a message was received, when a calendar entry begins, when a contact was changed. */
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
const modifiedMs = (entry: Entry): number => Number(entry.mtime / 1_000_000n);
/** When an item was received, or begins; milliseconds since 1970. */
function receivedMs(entry: Entry): number {
  const start = itemKindOf(entry.name) === "calendar" ? textOf(entry, START) : null;
  const [, year, month, day, hour = "0", minute = "0", second = "0"] =
    /^(\d{4})(\d\d)(\d\d)(?:T(\d\d)(\d\d)(\d\d))?/.exec(start ?? "") ?? [];
  // the zone that it names does not matter for an order of days
  return year
    ? Date.UTC(Number(year), Number(month) - 1, Number(day), Number(hour), Number(minute), Number(second))
    : modifiedMs(entry);
}

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
  const holds = itemKindOf(entry.name);
  if (holds !== "message")
    return {
      holds,
      path,
      subject: textOf(entry, TITLE) ?? "",
      from: "",
      to: [],
      cc: [],
      sent: null,
      messageId: null,
      attachment: false,
      received: new Date(receivedMs(entry)).toISOString(),
      size: entry.size ?? 0,
      keywords: [],
    };
  return {
    holds,
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

/** Where an item stands in the list of its folder. */
export interface MessagePosition {
  /** A time in milliseconds, or the title of a contact. */
  readonly by: string;
  readonly name: ByteString;
}
const placeOf = (entry: Entry): MessagePosition => ({
  by:
    itemKindOf(entry.name) === "addressbook"
      ? (textOf(entry, TITLE) ?? "").toLowerCase()
      : String(receivedMs(entry)),
  name: entry.name,
});
/** Newest first; contacts by their names. Of one moment or name, in the order of the file names. */
function inOrder(a: MessagePosition, b: MessagePosition): number {
  if (a.by === b.by) return a.name < b.name ? -1 : Number(a.name > b.name);
  return itemKindOf(a.name) === "addressbook" ? (a.by < b.by ? -1 : 1) : Number(b.by) - Number(a.by);
}
const cursorOf = ({ by, name }: MessagePosition): ByteString => `${encodeURIComponent(by)} ${name}`;
/** Reads the `next` of a page; null where it is none. */
export function positionOf(cursor: ByteString): MessagePosition | null {
  const [, by, name] = /^(\S*) (.+)$/s.exec(cursor) ?? [];
  if (name === undefined) return null;
  try {
    const read = decodeURIComponent(by!);
    return itemKindOf(name) === "addressbook" || /^-?\d{1,16}$/.test(read) ? { by: read, name } : null;
  } catch {
    return null;
  }
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
  let page: { entry: Entry; place: MessagePosition }[] = [];
  const sorted = () => page.sort((a, b) => inOrder(a.place, b.place));
  let total = 0;
  for await (const entry of folderEntries(reader, node)) {
    if (entry.type !== "file") continue;
    total += 1;
    const place = placeOf(entry);
    if (from && inOrder(place, from) <= 0) continue;
    page.push({ entry, place });
    // of a large folder never more than a few pages are held
    if (page.length > 8 * (limit + 1)) page = sorted().slice(0, limit + 1);
  }
  const base = path === "/" ? "" : path;
  const newest = sorted().slice(0, limit);
  const more = page.length > limit;
  return {
    messages: await mapped(newest, ({ entry }) => described(reader, `${base}/${entry.name}`, entry)),
    total,
    next: more ? cursorOf(newest.at(-1)!.place) : null,
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
  const bytes = await headBytes(reader, entry, SEARCHED_BYTES);
  const searched =
    head.holds === "message"
      ? await searchedTexts(bytes)
      : { texts: [bytes.toString("utf8").replaceAll(/\r?\n[ \t]/g, "")], attachments: 0 };
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
