import { CodedError } from "@/core/codes";
import { ALLOCATION, type BlockDevice, rangesOf, ZERO } from "@/disks/device";
import {
  type ByteRange,
  type Listed,
  NOBODY_SAID,
  nowNanoseconds,
  type OpenDisk,
  type SourceReader,
} from "@/sources/reader";
import type { ByteString } from "@/store/tree/tree";

/** One disk, as a source whose only item it is: `/disk.raw`. */
export function diskSource(
  device: BlockDevice,
  changed: readonly ByteRange[] | null,
  name = "disk.raw",
): SourceReader {
  const at = nowNanoseconds();
  const listed = (name: ByteString, type: "file" | "folder"): Listed => ({
    name,
    type,
    mode: 0o600,
    uid: NOBODY_SAID,
    gid: NOBODY_SAID,
    mtime: at,
    ctime: at,
    inode: at % 2n ** 48n,
    size: type === "file" ? device.size : 0,
    allocated: 0,
    disk: type === "file",
  });
  return {
    look: () => listed("", "folder"),
    list: () => ({ at, items: [listed(name, "file")] }),
    open: (path) => {
      throw new CodedError("file.unreadable", path);
    },
    openDisk: async (): Promise<OpenDisk> => ({
      size: device.size,
      changed,
      allocated: (offset, length) =>
        rangesOf(device, ALLOCATION, offset, offset + length, (flags) => (flags & ZERO) === 0),
      readInto: async (into, offset) => {
        (await device.read(offset, into.length)).copy(into);
      },
      close: () => {},
    }),
    target: (path) => {
      throw new CodedError("file.unreadable", path);
    },
    xattrs: () => [],
    passesOver: () => false,
  };
}
