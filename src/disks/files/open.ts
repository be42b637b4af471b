import type { Partition } from "../partitions";
import { ExtFileSystem } from "./ext";
import { FatFileSystem } from "./fat";
import type { FileSystem, Volume } from "./file-system";
import { NtfsFileSystem } from "./ntfs";

const OPENERS: Readonly<Record<string, (volume: Volume) => Promise<FileSystem>>> = {
  ext2: ExtFileSystem.open,
  ext3: ExtFileSystem.open,
  ext4: ExtFileSystem.open,
  fat: FatFileSystem.open,
  fat32: FatFileSystem.open,
  ntfs: NtfsFileSystem.open,
};

/** Whether the files of a file system can be read. */
export const isRead = (fileSystem: string | null): boolean =>
  fileSystem !== null && Object.hasOwn(OPENERS, fileSystem);

/** Opens the file system of a partition. Throws `file.unreadable` where it is not one that is read, or is damaged. */
export function openFileSystem(disk: Volume, { offset, size, fileSystem }: Partition): Promise<FileSystem> {
  return OPENERS[fileSystem!]!({
    size,
    read: (at, length) => disk.read(offset + at, Math.min(length, size - at)),
  });
}
