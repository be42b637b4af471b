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
import { byteString, showBytes } from "@/store/tree/tree";
import type { MailClient, MailFolder, MailItem } from "./client";
import type { DavClient, DavObject } from "./dav";
import { davFileName, davHead } from "./dav-entry";
import { DAV_KINDS, type DavKind } from "./dav-kinds";
import { KEYWORDS, NAME, ROLE, START, TITLE, UID } from "./names";
import { excludedFolders, type MailWhat, mailWhat } from "./what";

/** Calendars and address books of the mailbox. */
export interface MailboxDav {
  readonly client: DavClient;
  /** The mailbox as it signs in. */
  readonly mailbox: string;
}

/** What an item of the mailbox contains, when it is asked for. */
interface Content {
  /** Bytes, as the server estimates them. */
  readonly size: number;
  readonly fetch: () => Promise<Buffer>;
  readonly xattrs: (bytes: Buffer) => [ByteString, Uint8Array][];
}

/** The folders above calendars and address books. */
const CONTAINERS: Readonly<Record<DavKind, { readonly name: string; readonly role: string }>> = {
  calendar: { name: "Calendars", role: "calendars" },
  addressbook: { name: "Contacts", role: "contacts" },
};

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
  private readonly items = new Map<ByteString, Content>();
  private readonly described = new Map<ByteString, Pick<MailFolder, "name" | "role">>();

  private constructor(
    private readonly client: MailClient,
    private readonly accountId: string,
    private readonly what: MailWhat,
    private readonly dav: MailboxDav | null,
  ) {}

  /** Lists the whole mailbox; content is fetched when it is opened. */
  static async open(
    client: MailClient,
    accountId: string,
    what: MailWhat = mailWhat.parse({}),
    dav: MailboxDav | null = null,
  ): Promise<MailboxReader> {
    const reader = new MailboxReader(client, accountId, what, dav);
    await reader.listAll();
    return reader;
  }

  private async listAll(): Promise<void> {
    const folders = await this.client.folders(this.accountId);
    const all = pathsOf(folders);
    const paths = this.withoutExcluded(folders, all);
    this.folders.set("/", []);
    for (const folder of folders) this.described.set(all.get(folder.id)!, folder);
    for (const path of paths.values()) this.folders.set(path, []);
    for (const path of [...paths.values()].sort()) {
      const cut = path.lastIndexOf("/");
      this.folders.get(path.slice(0, cut) || "/")?.push(folderEntry(path.slice(cut + 1)));
    }
    const since = this.what.receivedSince === null ? null : Date.parse(this.what.receivedSince);
    for (const item of await this.client.items(this.accountId)) {
      if (since !== null && Date.parse(item.receivedAt) < since) continue;
      for (const [folderId, inside] of Object.entries(item.mailboxIds)) {
        const folder = inside ? paths.get(folderId) : undefined;
        if (folder === undefined) continue;
        const entry = messageEntry(item);
        this.folders.get(folder)!.push(entry);
        this.items.set(`${folder}/${entry.name}`, {
          size: item.size,
          fetch: () => this.client.content(this.accountId, item),
          xattrs: () => {
            const keywords = keywordsOf(item);
            return keywords ? [[KEYWORDS, Buffer.from(keywords)]] : [];
          },
        });
      }
    }
    if (this.dav) await this.listDav(this.dav);
    for (const entries of this.folders.values()) entries.sort((a, b) => (a.name < b.name ? -1 : 1));
  }

  /** Calendars and address books, each in a folder of its own beside those of the mail. */
  private async listDav({ client, mailbox }: MailboxDav): Promise<void> {
    const excluded = excludedFolders(this.what);
    const wanted: Readonly<Record<DavKind, boolean>> = {
      calendar: this.what.calendars,
      addressbook: this.what.contacts,
    };
    const kinds = DAV_KINDS.filter((kind) => wanted[kind]);
    if (kinds.length === 0) return;
    const collections = await client.collections(mailbox);
    for (const kind of kinds) {
      const { name, role } = CONTAINERS[kind];
      const own = collections.filter((one) => one.kind === kind);
      const container = free(`/${name}`, (path) => this.folders.has(path));
      if (own.length === 0 || excluded(showBytes(container), role)) continue;
      this.addFolder(container, { name, role });
      this.containers.push(container);
      for (const collection of own) {
        const path = free(`${container}/${nameFrom(collection.name)}`, (one) => this.folders.has(one));
        if (excluded(showBytes(path), kind)) continue;
        this.addFolder(path, { name: collection.name, role: kind });
        for (const object of await client.objects(mailbox, collection)) {
          const wish = nameFrom(davFileName(object.url, kind), 200);
          const at = free(`${path}/${wish}`, (one) => this.items.has(one));
          this.folders.get(path)!.push(davEntry(at.slice(path.length + 1), object));
          this.items.set(at, {
            size: object.size ?? 0,
            fetch: () => client.content(mailbox, object.url),
            xattrs: (bytes) => davXattrs(bytes, kind),
          });
        }
      }
    }
  }

  /** The folders above calendars and address books. */
  readonly containers: ByteString[] = [];

  private addFolder(path: ByteString, described: Pick<MailFolder, "name" | "role">): void {
    const cut = path.lastIndexOf("/");
    this.folders.set(path, []);
    this.described.set(path, described);
    this.folders.get(path.slice(0, cut) || "/")!.push(folderEntry(path.slice(cut + 1)));
  }

  /** The paths of folders without those that What excludes. */
  private withoutExcluded(
    folders: readonly MailFolder[],
    paths: ReadonlyMap<string, ByteString>,
  ): Map<string, ByteString> {
    const excluded = excludedFolders(this.what);
    const left = folders
      .map((folder) => ({ path: paths.get(folder.id)!, role: folder.role }))
      .filter(({ path, role }) => excluded(showBytes(path), role));
    return new Map(
      [...paths].filter(
        ([, path]) => !left.some((one) => path === one.path || path.startsWith(`${one.path}/`)),
      ),
    );
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
      xattrs: () => item.xattrs(bytes),
      close: () => {},
    };
  }

  private row = 0;
  private last: ByteString | null = null;
  private readonly ahead = new Map<ByteString, Promise<Buffer>>();

  private fetch(path: ByteString, item: Content): Promise<Buffer> {
    const follows = this.last !== null && this.after(this.last, 1)[0] === path;
    this.row = follows ? this.row + 1 : 0;
    this.last = path;
    const wanted = this.ahead.get(path) ?? item.fetch();
    if (!follows) this.ahead.clear();
    this.ahead.delete(path);
    if (this.row >= IN_A_ROW) {
      let bytes = 0;
      for (const next of this.after(path, AHEAD)) {
        const coming = this.items.get(next)!;
        bytes += coming.size;
        if (bytes > AHEAD_BYTES) break;
        if (this.ahead.has(next)) continue;
        const content = coming.fetch();
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

  private item(path: ByteString): Content {
    const item = this.items.get(path);
    if (!item) throw new CodedError("file.vanished", path);
    return item;
  }
}

/** The first of a path, the path with “ 2”, “ 3” … that is not taken; before an extension where it has one. */
function free(wish: ByteString, taken: (path: ByteString) => boolean): ByteString {
  const [, stem, extension] = /^(.*?)(\.(?:ics|vcf))?$/is.exec(wish) as unknown as [string, string, string?];
  for (let number = 1; ; number += 1) {
    const path = number === 1 ? wish : `${stem} ${number}${extension ?? ""}`;
    if (!taken(path)) return path;
  }
}

const text = (value: string): Uint8Array => Buffer.from(value, "utf8");
/** Titles are for lists: what is longer is in the content. */
const TITLE_MOST = 300;
function davXattrs(bytes: Buffer, kind: DavKind): [ByteString, Uint8Array][] {
  const { uid, title, start } = davHead(bytes, kind);
  return [
    ...(start ? [[START, text(start.slice(0, 64))] as [string, Uint8Array]] : []),
    ...(title ? [[TITLE, text([...title].slice(0, TITLE_MOST).join(""))] as [string, Uint8Array]] : []),
    ...(uid && uid.length <= 1000 ? [[UID, text(uid)] as [string, Uint8Array]] : []),
  ];
}

function davEntry(name: ByteString, { url, etag, size, modified }: DavObject): Listed {
  const at = BigInt(modified ?? 0) * 1_000_000n;
  return {
    name,
    type: "file",
    mode: 0o600,
    uid: NOBODY_SAID,
    gid: NOBODY_SAID,
    mtime: at,
    ctime: at,
    inode: BigInt(createHash("sha256").update(`${url}\0${etag}`).digest().readUIntBE(0, 6)),
    size: size ?? 0,
    roughSize: true,
    allocated: size ?? 0,
  };
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
    // servers estimate it; content does not change under an id
    roughSize: true,
    allocated: item.size,
    sameFile: Object.keys(item.mailboxIds).length > 1 ? item.id : undefined,
  };
}
