import { constants, readlinkSync } from "node:fs";
import { CodedError } from "@/core/codes";
import { deviceOf, OpenFolder, readXattrs, type Stats, statsOf } from "@/sources/machine/libc";
import { itemError, openFile } from "@/sources/machine/open-file";
import { joinPath, systemPath } from "@/sources/machine/paths";
import {
  type Listed,
  type Listing,
  nowNanoseconds,
  type OpenFile,
  type SourceReader,
} from "@/sources/reader";
import { type ByteString, showBytes } from "@/store/tree/tree";
import { mountsOf, PSEUDO_SYSTEMS, SNAPSHOTS_FOLDER, SUBVOLUME_INODE } from "./volume-snapshot";

const TYPES: ReadonlyMap<number, Listed["type"]> = new Map([
  [constants.S_IFREG, "file"],
  [constants.S_IFDIR, "folder"],
  [constants.S_IFLNK, "link"],
]);

/** What is called so, by what the system tells of it. */
export function listed(name: ByteString, stats: Stats): Listed {
  const { mode, uid, gid, mtime, ctime, inode, size, allocated } = stats;
  const type = TYPES.get(mode & constants.S_IFMT) ?? "other";
  return {
    name,
    type,
    mode: mode & 0o7777,
    uid,
    gid,
    mtime,
    ctime,
    inode,
    size,
    allocated,
    sameFile:
      (type === "file" || type === "link") && stats.links > 1 ? `${deviceOf(stats)}:${inode}` : undefined,
  };
}

/**
 * Reads the files of a machine.
 *
 * @param root the folder that counts as `/`: that of the machine itself, or where its disk is mounted in a container
 * @param passOver paths below it, as the system has them, that are never read
 * @param still where a path of the system is read: in a snapshot, where there is one
 */
export class FilesReader implements SourceReader {
  private readonly base: ByteString;
  private readonly passed: Set<ByteString>;
  private readonly mounted = new Set<ByteString>();

  constructor(
    root: string,
    passOver: readonly string[] = [],
    private readonly still: ((path: ByteString) => ByteString) | null = null,
  ) {
    this.base = root === "/" ? "" : Buffer.from(root).toString("latin1");
    this.passed = new Set(passOver.map((path) => Buffer.from(path).toString("latin1")));
    for (const { path, system } of mountsOf()) {
      this.mounted.add(path);
      if (PSEUDO_SYSTEMS.has(system)) this.passed.add(path);
    }
  }

  private live(path: ByteString): ByteString {
    return path === "/" ? this.base || "/" : this.base + path;
  }
  private full(path: ByteString): ByteString {
    const live = this.live(path);
    return this.still ? this.still(live) : live;
  }

  passesOver(path: ByteString): boolean {
    return this.isOwnSnapshots(path) || this.passed.has(this.live(path));
  }

  /** Our own snapshots lie at the top of a volume or subvolume; a folder of that name elsewhere is somebody's. */
  private isOwnSnapshots(path: ByteString): boolean {
    if (!path.endsWith(`/${SNAPSHOTS_FOLDER}`)) return false;
    const above = path.slice(0, path.lastIndexOf("/")) || "/";
    if (above === "/" || this.mounted.has(this.live(above))) return true;
    try {
      return statsOf(this.live(above)).inode === SUBVOLUME_INODE;
    } catch {
      return false;
    }
  }

  look(path: ByteString): Listed {
    const name = path.slice(path.lastIndexOf("/") + 1);
    try {
      return listed(name, statsOf(this.full(path)));
    } catch (error) {
      const coded = itemError(error, path);
      throw coded.code === "file.vanished"
        ? new CodedError("folder.missing", showBytes(path), { cause: error })
        : coded;
    }
  }

  list(path: ByteString, problem: (path: ByteString, error: unknown) => void): Listing | Promise<Listing> {
    let folder: OpenFolder | null = null;
    const at = nowNanoseconds();
    try {
      folder = OpenFolder.open(this.full(path), path === "/");
      return { at, items: this.lookedAt(path, folder, folder.names().inOrder(), problem) };
    } catch (error) {
      folder?.close();
      throw itemError(error, path);
    }
  }

  private *lookedAt(
    path: ByteString,
    folder: OpenFolder,
    names: Iterable<ByteString>,
    problem: (path: ByteString, error: unknown) => void,
  ): Iterable<Listed> {
    const { still } = this;
    try {
      for (const name of names) {
        let item: Listed;
        try {
          // in the folder, unless another volume may begin there that stands still elsewhere
          item = listed(name, still ? statsOf(this.full(joinPath(path, name))) : folder.look(name));
        } catch (error) {
          const child = joinPath(path, name);
          problem(child, itemError(error, child));
          continue;
        }
        yield item;
      }
    } finally {
      folder.close();
    }
  }

  target(path: ByteString): ByteString {
    try {
      return readlinkSync(systemPath(this.full(path)), { encoding: "latin1" });
    } catch (error) {
      throw itemError(error, path);
    }
  }

  xattrs(path: ByteString): [ByteString, Buffer][] {
    return readXattrs(Buffer.from(this.full(path), "latin1"));
  }

  open(path: ByteString): OpenFile {
    return openFile(this.full(path), (error) => itemError(error, path));
  }

  place(path: ByteString): ByteString {
    return this.full(path);
  }
}
