import { closeSync, constants, openSync, readSync } from "node:fs";
import { CodedError } from "@/core/codes";
import { type ByteString, showBytes } from "@/store/tree/tree";
import type { OpenFile } from "../reader";
import { contentStats, dataRanges, readXattrsOpen } from "./libc";
import { systemPath } from "./paths";

/** As the system's own codes: another kind of thing is where a file was. */
const NO_FILE = "ENOFILE";

/** Translates what the system says about one item. */
export function itemError(error: unknown, path: ByteString): CodedError {
  if (error instanceof CodedError) return error;
  const code = (error as NodeJS.ErrnoException).code;
  const shown = showBytes(path);
  if (code === "EACCES" || code === "EPERM")
    return new CodedError("file.no-permission", shown, { cause: error });
  if (code === "ENOENT" || code === "ENOTDIR")
    return new CodedError("file.vanished", shown, { cause: error });
  if (code === NO_FILE)
    return new CodedError("file.vanished", `${shown} is no file any more`, { cause: error });
  return new CodedError("file.unreadable", `${shown} (${code ?? (error as Error).message})`, {
    cause: error,
  });
}

/**
 * Opens a file where the system has it; reading and looking are the system's own calls.
 *
 * @param translate what an error of opening or reading becomes
 */
export function openFile(place: ByteString, translate: (error: unknown) => unknown): OpenFile {
  const trying = <T>(call: () => T): T => {
    try {
      return call();
    } catch (error) {
      throw translate(error);
    }
  };
  const fd = trying(() =>
    openSync(systemPath(place), constants.O_RDONLY | constants.O_NOFOLLOW | constants.O_NONBLOCK),
  );
  const before = contentStats(fd);
  const { size } = before;
  if ((before.mode & constants.S_IFMT) !== constants.S_IFREG) {
    closeSync(fd);
    throw translate(Object.assign(new Error("no file any more"), { code: NO_FILE }));
  }
  return {
    size,
    extents: before.allocated < size ? dataRanges(fd, size) : null,
    read: (into, at, length, position) => trying(() => readSync(fd, into, at, length, position)),
    changed: () => {
      const { size, seconds, nanoseconds } = contentStats(fd);
      return size !== before.size || seconds !== before.seconds || nanoseconds !== before.nanoseconds;
    },
    xattrs: () => readXattrsOpen(fd),
    close: () => closeSync(fd),
  };
}
