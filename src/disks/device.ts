/** A range of a block device, bytes. */
export interface Range {
  readonly offset: number;
  readonly length: number;
}

/** A range, and what a context says about it: for `base:allocation` a sum of HOLE and ZERO, for a dirty bitmap DIRTY. */
export interface Status {
  readonly length: number;
  readonly flags: number;
}

/** `base:allocation`: nothing is allocated; it reads as zeros. */
export const HOLE = 1;
export const ZERO = 2;
/** `qemu:dirty-bitmap:NAME`: written to since the bitmap began. */
export const DIRTY = 1;

export const ALLOCATION = "base:allocation";
export const bitmapContext = (name: string): string => `qemu:dirty-bitmap:${name}`;

/** Content that is read, and may be written, in any order. Offsets and lengths are bytes. */
export interface BlockDevice {
  readonly size: number;
  readonly readOnly: boolean;
  /** Exactly `length` bytes from `offset`. */
  read(offset: number, length: number): Promise<Buffer>;
  /** What a context says from `offset` on, in order, for up to `length` bytes and at least one. */
  status(context: string, offset: number, length: number): Promise<readonly Status[]>;
  /** The contexts that it knows besides `base:allocation`. */
  readonly contexts: readonly string[];
  write(offset: number, bytes: Buffer): Promise<void>;
  /** Makes a range read as zeros; nothing need stay allocated. */
  zero(offset: number, length: number): Promise<void>;
  /** What was written before is on stable storage. */
  flush(): Promise<void>;
}

/** Ranges of which the flags pass, neighbours joined; `from` and `to` are multiples of nothing in particular. */
export async function rangesOf(
  device: Pick<BlockDevice, "status">,
  context: string,
  from: number,
  to: number,
  passes: (flags: number) => boolean,
): Promise<Range[]> {
  const ranges: { offset: number; length: number }[] = [];
  let at = from;
  while (at < to) {
    const statuses = await device.status(context, at, to - at);
    for (const { length, flags } of statuses) {
      const end = Math.min(to, at + length);
      const last = ranges.at(-1);
      if (end > at && passes(flags)) {
        if (last && last.offset + last.length === at) last.length += end - at;
        else ranges.push({ offset: at, length: end - at });
      }
      at = Math.max(at, end);
      if (at >= to) break;
    }
  }
  return ranges;
}
