import { ALLOCATION, type BlockDevice, bitmapContext, DIRTY, HOLE, type Status, ZERO } from "@/disks/device";

const GRAIN = 4096;

/** A device in memory that says truly what is allocated, and what was written to it since `begin`. */
export class MemoryDevice implements BlockDevice {
  readonly bytes: Buffer;
  private readonly holds: Uint8Array;
  private readonly dirty: Uint8Array;
  readonly contexts = [bitmapContext("written")];
  /** Bytes that were read. */
  readBytes = 0;
  flushes = 0;

  constructor(
    readonly size: number,
    readonly readOnly = false,
  ) {
    this.bytes = Buffer.alloc(size);
    this.holds = new Uint8Array(Math.ceil(size / GRAIN));
    this.dirty = new Uint8Array(Math.ceil(size / GRAIN));
  }

  begin(): void {
    this.dirty.fill(0);
  }

  async read(offset: number, length: number): Promise<Buffer> {
    this.readBytes += length;
    return Buffer.from(this.bytes.subarray(offset, offset + length));
  }

  async status(context: string, offset: number, length: number): Promise<Status[]> {
    const flagsAt = (grain: number) =>
      context === ALLOCATION ? (this.holds[grain] ? 0 : HOLE | ZERO) : this.dirty[grain] ? DIRTY : 0;
    const statuses: { length: number; flags: number }[] = [];
    for (let at = offset; at < offset + length; ) {
      const end = Math.min(offset + length, (Math.floor(at / GRAIN) + 1) * GRAIN);
      const flags = flagsAt(Math.floor(at / GRAIN));
      const last = statuses.at(-1);
      if (last?.flags === flags) last.length += end - at;
      else statuses.push({ length: end - at, flags });
      at = end;
    }
    return statuses;
  }

  async write(offset: number, bytes: Buffer): Promise<void> {
    bytes.copy(this.bytes, offset);
    this.mark(offset, bytes.length, 1);
  }

  async zero(offset: number, length: number): Promise<void> {
    this.bytes.fill(0, offset, offset + length);
    this.dirty.fill(1, Math.floor(offset / GRAIN), Math.ceil((offset + length) / GRAIN));
    const first = Math.ceil(offset / GRAIN);
    const after = Math.floor((offset + length) / GRAIN);
    if (first < after) this.holds.fill(0, first, after);
  }

  async flush(): Promise<void> {
    this.flushes += 1;
  }

  private mark(offset: number, length: number, value: number): void {
    const range = [Math.floor(offset / GRAIN), Math.ceil((offset + length) / GRAIN)] as const;
    this.holds.fill(value, ...range);
    this.dirty.fill(1, ...range);
  }
}
