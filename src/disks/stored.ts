import type { StoredDisk } from "@/store/read/disk";
import { ALLOCATION, type BlockDevice, HOLE, type Status, ZERO } from "./device";

const refused = (): Promise<never> => Promise.reject(new Error("a recovery point is read only"));

/** A disk of a recovery point as a device that can be read. */
export const storedDevice = (disk: StoredDisk): BlockDevice => ({
  size: disk.size,
  readOnly: true,
  contexts: [],
  read: (offset, length) => disk.read(offset, length),
  async status(context, offset, length): Promise<readonly Status[]> {
    if (context !== ALLOCATION) return [{ length, flags: 0 }];
    const statuses: Status[] = [];
    for (let at = offset; at < offset + length; ) {
      const { stored, length: part } = disk.stretch(at, offset + length - at);
      statuses.push({ length: part, flags: stored ? 0 : HOLE | ZERO });
      at += part;
    }
    return statuses;
  },
  write: refused,
  zero: refused,
  flush: async () => {},
});
