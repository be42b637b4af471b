import {
  type BigIntStats,
  closeSync,
  constants,
  fstatSync,
  lstatSync,
  openSync,
  readdirSync,
  readlinkSync,
  readSync,
} from "node:fs";
import { CodedError } from "@/core/codes";
import { type ByteString, showBytes } from "@/store/tree";
import type { Listed, OpenFile, SourceReader } from "../reader";
import { dataRanges, readXattrs } from "./libc";
import { joinPath, systemPath } from "./paths";
import { mountsOf, PSEUDO_SYSTEMS, SNAPSHOTS_FOLDER } from "./standing-still";

/** Translates what the system says about one item. */
export function itemError(error: unknown, path: ByteString): CodedError {
  if (error instanceof CodedError) return error;
  const code = (error as NodeJS.ErrnoException).code;
  const shown = showBytes(path);
  if (code === "EACCES" || code === "EPERM")
    return new CodedError("file.no-permission", shown, { cause: error });
  if (code === "ENOENT" || code === "ENOTDIR")
    return new CodedError("file.vanished", shown, { cause: error });
  return new CodedError("file.unreadable", `${shown} (${code ?? (error as Error).message})`, {
    cause: error,
  });
}

function listed(name: ByteString, stats: BigIntStats): Listed {
  const type = stats.isFile()
    ? "file"
    : stats.isDirectory()
      ? "folder"
      : stats.isSymbolicLink()
        ? "link"
        : "other";
  return {
    name,
    type,
    mode: Number(stats.mode) & 0o7777,
    uid: Number(stats.uid),
    gid: Number(stats.gid),
    mtime: stats.mtimeNs,
    ctime: stats.ctimeNs,
    inode: stats.ino,
    size: Number(stats.size),
    allocated: Number(stats.blocks) * 512,
    sameFile: type === "file" && stats.nlink > 1n ? `${stats.dev}:${stats.ino}` : undefined,
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

  constructor(
    root: string,
    passOver: readonly string[] = [],
    private readonly still: ((path: ByteString) => ByteString) | null = null,
  ) {
    this.base = root === "/" ? "" : Buffer.from(root).toString("latin1");
    this.passed = new Set(passOver.map((path) => Buffer.from(path).toString("latin1")));
    for (const { path, system } of mountsOf()) if (PSEUDO_SYSTEMS.has(system)) this.passed.add(path);
  }

  private live(path: ByteString): ByteString {
    return path === "/" ? this.base || "/" : this.base + path;
  }
  private full(path: ByteString): ByteString {
    const live = this.live(path);
    return this.still ? this.still(live) : live;
  }

  passesOver(path: ByteString): boolean {
    return path.endsWith(`/${SNAPSHOTS_FOLDER}`) || this.passed.has(this.live(path));
  }

  look(path: ByteString): Listed {
    const name = path.slice(path.lastIndexOf("/") + 1);
    try {
      return listed(name, lstatSync(systemPath(this.full(path)), { bigint: true }));
    } catch (error) {
      const coded = itemError(error, path);
      throw coded.code === "file.vanished"
        ? new CodedError("folder.missing", showBytes(path), { cause: error })
        : coded;
    }
  }

  list(path: ByteString, problem: (path: ByteString, error: unknown) => void): Listed[] {
    const full = this.full(path);
    let names: ByteString[];
    try {
      names = readdirSync(systemPath(full), { encoding: "latin1" }).sort();
    } catch (error) {
      throw itemError(error, path);
    }
    const found: Listed[] = [];
    for (const name of names) {
      try {
        found.push(listed(name, lstatSync(systemPath(this.entry(path, full, name)), { bigint: true })));
      } catch (error) {
        const child = joinPath(path, name);
        problem(child, itemError(error, child));
      }
    }
    return found;
  }

  /** Where an entry of a folder is read: beside the folder, unless another volume begins there. */
  private entry(folder: ByteString, full: ByteString, name: ByteString): ByteString {
    return this.still ? this.full(joinPath(folder, name)) : joinPath(full, name);
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
    let fd: number;
    try {
      fd = openSync(
        systemPath(this.full(path)),
        constants.O_RDONLY | constants.O_NOFOLLOW | constants.O_NONBLOCK,
      );
    } catch (error) {
      throw itemError(error, path);
    }
    const before = fstatSync(fd, { bigint: true });
    if (!before.isFile()) {
      closeSync(fd);
      throw new CodedError("file.vanished", `${showBytes(path)} is no file any more`);
    }
    const size = Number(before.size);
    const holes = Number(before.blocks) * 512 < size;
    return {
      size,
      extents: holes ? dataRanges(fd, size) : null,
      read: (into, at, length, position) => {
        try {
          return readSync(fd, into, at, length, position);
        } catch (error) {
          throw itemError(error, path);
        }
      },
      changed: () => {
        const after = fstatSync(fd, { bigint: true });
        return after.size !== before.size || after.mtimeNs !== before.mtimeNs;
      },
      close: () => closeSync(fd),
    };
  }
}
