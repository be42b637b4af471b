import { createHash } from "node:crypto";
import { CodedError } from "@/core/codes";
import {
  type Listed,
  type Listing,
  NOBODY_SAID,
  nowNanoseconds,
  type OpenFile,
  type SourceReader,
} from "@/sources/reader";
import type { ByteString } from "@/store/tree/tree";
import { byteString } from "@/store/tree/tree";
import type { MailClient, MailFolder, MailItem } from "./client";
import { KEYWORDS, NAME, ROLE } from "./names";

/** After so many messages of a folder in a row, as in a first run, the next ones are fetched while one is stored. */
const IN_A_ROW = 8;
const AHEAD = 3;
const AHEAD_BYTES = 16 * 1024 * 1024;

/**
 * A mailbox as a tree: its folders as folders, each message as a file in the form it was received (RFC 5322), named by
 * day, subject and id, so that it can be found by a person and never meets another of the same name. Seen, answered and
 * other keywords are in an extended attribute, as is what a folder is for. Content of a message never changes under an id (RFC 8621, section 4), so
 * what was stored once is not fetched again.
 */
export class MailboxReader implements SourceReader {
  private readonly folders = new Map<ByteString, Listed[]>();
  private readonly items = new Map<ByteString, MailItem>();
  private readonly described = new Map<ByteString, MailFolder>();

  private constructor(
    private readonly client: MailClient,
    private readonly accountId: string,
  ) {}

  /** Lists the whole mailbox; content is fetched when it is opened. */
  static async open(client: MailClient, accountId: string): Promise<MailboxReader> {
    const reader = new MailboxReader(client, accountId);
    await reader.listAll();
    return reader;
  }

  private async listAll(): Promise<void> {
    const folders = await this.client.folders(this.accountId);
    const paths = pathsOf(folders);
    this.folders.set("/", []);
    for (const folder of folders) this.described.set(paths.get(folder.id)!, folder);
    for (const path of paths.values()) this.folders.set(path, []);
    for (const path of [...paths.values()].sort()) {
      const cut = path.lastIndexOf("/");
      this.folders.get(path.slice(0, cut) || "/")?.push(folderEntry(path.slice(cut + 1)));
    }
    for (const item of await this.client.items(this.accountId)) {
      for (const [folderId, inside] of Object.entries(item.mailboxIds)) {
        const folder = inside ? paths.get(folderId) : undefined;
        if (folder === undefined) continue;
        const entry = messageEntry(item);
        this.folders.get(folder)!.push(entry);
        this.items.set(`${folder}/${entry.name}`, item);
      }
    }
    for (const entries of this.folders.values()) entries.sort((a, b) => (a.name < b.name ? -1 : 1));
  }

  look(path: ByteString): Listed {
    const cut = path.lastIndexOf("/");
    const found =
      path === "/"
        ? folderEntry("")
        : this.folders.get(path.slice(0, cut) || "/")?.find((entry) => entry.name === path.slice(cut + 1));
    if (!found) throw new CodedError("folder.missing", path);
    return found;
  }

  list(path: ByteString): Listing {
    return { at: nowNanoseconds(), items: this.folders.get(path) ?? [] };
  }

  async open(path: ByteString): Promise<OpenFile> {
    const item = this.item(path);
    const bytes = await this.fetch(path, item);
    return {
      size: bytes.length,
      extents: null,
      read: (into, at, length, position) => bytes.copy(into, at, position, position + length),
      changed: () => false,
      xattrs: () => {
        const keywords = keywordsOf(item);
        return keywords ? [[KEYWORDS, Buffer.from(keywords)]] : [];
      },
      close: () => {},
    };
  }

  private row = 0;
  private last: ByteString | null = null;
  private readonly ahead = new Map<ByteString, Promise<Buffer>>();

  private fetch(path: ByteString, item: MailItem): Promise<Buffer> {
    const follows = this.last !== null && this.after(this.last, 1)[0] === path;
    this.row = follows ? this.row + 1 : 0;
    this.last = path;
    const wanted = this.ahead.get(path) ?? this.client.content(this.accountId, item);
    if (!follows) this.ahead.clear();
    this.ahead.delete(path);
    if (this.row >= IN_A_ROW) {
      let bytes = 0;
      for (const next of this.after(path, AHEAD)) {
        const coming = this.items.get(next)!;
        bytes += coming.size;
        if (bytes > AHEAD_BYTES) break;
        if (this.ahead.has(next)) continue;
        const content = this.client.content(this.accountId, coming);
        // what goes wrong is told when its turn comes
        content.catch(() => {});
        this.ahead.set(next, content);
      }
    }
    return wanted;
  }

  /** The messages that come next in a folder. */
  private after(path: ByteString, count: number): ByteString[] {
    const cut = path.lastIndexOf("/");
    const folder = path.slice(0, cut);
    const entries = this.folders.get(folder || "/") ?? [];
    const name = path.slice(cut + 1);
    let [from, to] = [0, entries.length];
    while (from < to) {
      const middle = (from + to) >> 1;
      if (entries[middle]!.name <= name) from = middle + 1;
      else to = middle;
    }
    const next: ByteString[] = [];
    for (let at = from; at < entries.length && next.length < count; at += 1)
      if (entries[at]!.type === "file") next.push(`${folder}/${entries[at]!.name}`);
    return next;
  }

  target(path: ByteString): ByteString {
    throw new CodedError("file.unreadable", path);
  }

  xattrs(path: ByteString): [ByteString, Uint8Array][] {
    const folder = this.described.get(path);
    if (!folder) return [];
    const name = byteString(folder.name);
    return [
      ...(path.endsWith(`/${name}`)
        ? []
        : [[NAME, Buffer.from(folder.name, "utf8")] as [string, Uint8Array]]),
      ...(folder.role ? [[ROLE, Buffer.from(folder.role, "utf8")] as [string, Uint8Array]] : []),
    ];
  }

  end(): void {
    this.client.end?.().catch(() => {});
  }

  passesOver(): boolean {
    return false;
  }

  private item(path: ByteString): MailItem {
    const item = this.items.get(path);
    if (!item) throw new CodedError("file.vanished", path);
    return item;
  }
}

/** Where each folder lies, by its id; a folder whose parent is missing, or is itself, hangs at the top. */
function pathsOf(folders: readonly MailFolder[]): Map<string, ByteString> {
  const byId = new Map(folders.map((folder) => [folder.id, folder]));
  const paths = new Map<string, ByteString>();
  const taken = new Set<ByteString>();
  const pathOf = (folder: MailFolder, above: ReadonlySet<string>): ByteString => {
    const known = paths.get(folder.id);
    if (known !== undefined) return known;
    const parent = folder.parentId && !above.has(folder.parentId) ? byId.get(folder.parentId) : undefined;
    const base = parent ? pathOf(parent, new Set([...above, folder.id])) : "";
    const wish = `${base}/${nameFrom(folder.name)}`;
    const path = taken.has(wish) ? `${wish} ${nameFrom(folder.id)}` : wish;
    taken.add(path);
    paths.set(folder.id, path);
    return path;
  };
  for (const folder of folders) pathOf(folder, new Set([folder.id]));
  return paths;
}

/** Text from the far end as a name that a file can have. */
function nameFrom(text: string, most = 80): ByteString {
  const clean = [
    ...text
      .normalize("NFC")
      .replaceAll(/[/\p{Cc}]/gu, " ")
      .trim(),
  ]
    .slice(0, most)
    .join("")
    .trim();
  return byteString(clean === "" || clean === "." || clean === ".." ? "untitled" : clean);
}

const keywordsOf = (item: MailItem): string =>
  Object.keys(item.keywords)
    .filter((keyword) => item.keywords[keyword])
    .sort()
    .join(" ");

const folderEntry = (name: ByteString): Listed => ({
  name,
  type: "folder",
  mode: 0o700,
  uid: NOBODY_SAID,
  gid: NOBODY_SAID,
  mtime: 0n,
  ctime: 0n,
  inode: 0n,
  size: 0,
  allocated: 0,
});

function messageEntry(item: MailItem): Listed {
  const received = BigInt(Date.parse(item.receivedAt)) * 1_000_000n;
  const state = createHash("sha256")
    .update(`${item.id}\0${keywordsOf(item)}`)
    .digest();
  return {
    name: `${byteString(item.receivedAt.slice(0, 10))} ${nameFrom(item.subject ?? "")} ${nameFrom(item.id, 120)}.eml`,
    type: "file",
    mode: 0o600,
    uid: NOBODY_SAID,
    gid: NOBODY_SAID,
    mtime: received,
    ctime: received,
    // tells one state of the message from another: its content is the id's, its keywords may change
    inode: BigInt(state.readUIntBE(0, 6)),
    size: item.size,
    allocated: item.size,
    sameFile: Object.keys(item.mailboxIds).length > 1 ? item.id : undefined,
  };
}
