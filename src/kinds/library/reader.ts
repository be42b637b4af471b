import { createHash } from "node:crypto";
import { CodedError } from "@/core/codes";
import { compileSelection, type Selector } from "@/core/selection/selection";
import {
  type Listed,
  type Listing,
  NOBODY_SAID,
  nowNanoseconds,
  type OpenFile,
  type SourceReader,
} from "@/sources/reader";
import { streamFile } from "@/sources/stream-file";
import { type ByteString, showBytes } from "@/store/tree/tree";
import type { LibraryClient, LibraryItem } from "./client";
import type { LibraryWhat } from "./what";

/** So many folders are listed ahead of the one that is read. */
const AHEAD = 4;

/**
 * A library as a tree of files. A file whose ETag is that of the last recovery point is not fetched; where the server tells
 * none, its size and time of change stand for it, and without those it is fetched each time.
 */
export class LibraryReader implements SourceReader {
  private readonly selector: Selector;
  /** Folders that are being listed, in the order in which they are read. */
  private readonly ahead = new Map<ByteString, Promise<LibraryItem[]>>();
  private readonly names = new Map<ByteString, string[]>();

  constructor(
    private readonly client: LibraryClient,
    /** The library's folder below the address; empty: the address itself. */
    private readonly root: ByteString,
    { exclude }: LibraryWhat,
  ) {
    this.selector = compileSelection({ folders: ["/"], include: [], exclude });
  }

  async look(path: ByteString): Promise<Listed> {
    if (path === "/") return folderEntry("");
    const item = await this.client.look(this.root + path);
    if (!item) throw new CodedError("folder.missing", path);
    return entryOf(item);
  }

  async list(path: ByteString, problem: (path: ByteString, error: unknown) => void): Promise<Listing> {
    const at = nowNanoseconds();
    const listed = await (this.ahead.get(path) ?? this.listed(path));
    this.ahead.delete(path);
    for (const name of this.names.get(path) ?? [])
      problem(
        path,
        new CodedError("file.unreadable", `the library names ${showBytes(name)}, which no file can have`),
      );
    this.names.delete(path);
    const below = path === "/" ? "" : path;
    const items = listed.filter((item) => this.takes(`${below}/${item.name}`, item));
    for (const { name, folder } of items) {
      const next = `${below}/${name}`;
      if (!folder || this.ahead.has(next) || this.ahead.size >= AHEAD) continue;
      const coming = this.listed(next);
      // what goes wrong is told when its turn comes
      coming.catch(() => {});
      this.ahead.set(next, coming);
    }
    return { at, items: items.map(entryOf) };
  }

  private listed(path: ByteString): Promise<LibraryItem[]> {
    return this.client.list(this.root + path, (name) => {
      this.names.set(path, [...(this.names.get(path) ?? []), name]);
    });
  }

  private takes(path: ByteString, { folder, size, modified }: LibraryItem): boolean {
    const shown = showBytes(path);
    return folder
      ? this.selector.takesFolder(shown)
      : this.selector.takesFile(
          shown,
          size ?? undefined,
          modified === null ? undefined : nanoseconds(modified),
        );
  }

  async open(path: ByteString): Promise<OpenFile> {
    const { stream, ended } = await this.client.open(this.root + path);
    return streamFile(stream, ended);
  }

  target(path: ByteString): ByteString {
    throw new CodedError("file.unreadable", path);
  }

  xattrs(): [ByteString, Uint8Array][] {
    return [];
  }

  passesOver(): boolean {
    return false;
  }

  end(): void {
    this.ahead.clear();
  }
}

const nanoseconds = (milliseconds: number): bigint => BigInt(milliseconds) * 1_000_000n;

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

let unknown = 0;
/** Tells one version of a file from another. */
export function versionOf({ etag, size, modified }: Omit<LibraryItem, "name" | "folder">): bigint {
  // a server may call the ETag of a fresh file weak, and the same one strong a second later
  const told =
    etag?.replace(/^W\//, "") ?? (modified === null ? `${Date.now()} ${unknown++}` : `${size} ${modified}`);
  return BigInt(createHash("sha256").update(told).digest().readUIntBE(0, 6));
}

function entryOf(item: LibraryItem): Listed {
  if (item.folder) return folderEntry(item.name);
  const at = nanoseconds(item.modified ?? 0);
  return {
    name: item.name,
    type: "file",
    mode: 0o600,
    uid: NOBODY_SAID,
    gid: NOBODY_SAID,
    mtime: at,
    ctime: at,
    inode: versionOf(item),
    size: item.size ?? 0,
    // a version shows in its ETag alone
    roughSize: true,
    allocated: item.size ?? 0,
  };
}
