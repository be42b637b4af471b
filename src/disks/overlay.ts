import { type FileHandle, open, unlink } from "node:fs/promises";
import { ALLOCATION, type BlockDevice, HOLE, type Status, ZERO } from "./device";

/** What was written is kept in units of this size. */
const CLUSTER = 64 * 1024;
const BASE = 0;
const WRITTEN = 1;
const ZEROED = 2;

/**
 * A device that keeps what is written to it in a file of its own, and leaves the one below as it is. The file is sparse and
 * as long as the device; it has no use without the map in memory, so it is deleted when it is closed.
 */
export class Overlay implements BlockDevice {
  readonly readOnly = false;
  readonly size: number;
  /** For each cluster where its content is. */
  private readonly map: Uint8Array;
  /** Writes that share a cluster follow each other. */
  private line: Promise<unknown> = Promise.resolve();

  private constructor(
    private readonly base: BlockDevice,
    private readonly file: FileHandle,
  ) {
    this.size = base.size;
    this.map = new Uint8Array(Math.ceil(base.size / CLUSTER));
  }

  /** @param path of the file, which must not exist; removed from its folder at once, so that nothing is left behind */
  static async over(base: BlockDevice, path: string): Promise<Overlay> {
    const file = await open(path, "wx+", 0o600);
    await unlink(path);
    return new Overlay(base, file);
  }

  get contexts(): readonly string[] {
    return [];
  }

  async read(offset: number, length: number): Promise<Buffer> {
    const into = Buffer.allocUnsafe(length);
    for (const { at, part, state } of this.stretches(offset, length)) {
      const target = into.subarray(at - offset, at - offset + part);
      if (state === ZEROED) target.fill(0);
      else if (state === BASE) (await this.base.read(at, part)).copy(target);
      else await this.readFile(target, at);
    }
    return into;
  }

  async status(context: string, offset: number, length: number): Promise<readonly Status[]> {
    if (context !== ALLOCATION) return [{ length, flags: 0 }];
    const [first] = [...this.stretches(offset, length)] as [Stretch];
    if (first.state === BASE) return this.base.status(context, offset, first.part);
    return [{ length: first.part, flags: first.state === ZEROED ? HOLE | ZERO : 0 }];
  }

  write(offset: number, bytes: Buffer): Promise<void> {
    return this.next(async () => {
      const end = offset + bytes.length;
      await this.own(offset, end);
      await this.file.write(bytes, 0, bytes.length, offset);
      this.map.fill(WRITTEN, Math.floor(offset / CLUSTER), Math.ceil(end / CLUSTER));
    });
  }

  zero(offset: number, length: number): Promise<void> {
    return this.next(async () => {
      const end = offset + length;
      const [first, after] = [
        Math.ceil(offset / CLUSTER),
        end === this.size ? this.map.length : Math.floor(end / CLUSTER),
      ];
      if (first < after) this.map.fill(ZEROED, first, after);
      const edges: [number, number][] =
        first < after
          ? [
              [offset, first * CLUSTER],
              [after * CLUSTER, end],
            ]
          : [[offset, end]];
      for (const [from, to] of edges) {
        if (to <= from) continue;
        await this.own(from, to);
        await this.file.write(Buffer.alloc(to - from), 0, to - from, from);
        this.map.fill(WRITTEN, Math.floor(from / CLUSTER), Math.ceil(to / CLUSTER));
      }
    });
  }

  async flush(): Promise<void> {
    await this.line;
  }

  close(): Promise<void> {
    return this.file.close();
  }

  private next<T>(work: () => Promise<T>): Promise<T> {
    const done = this.line.then(work);
    this.line = done.catch(() => {});
    return done;
  }

  /** Copies the clusters at both ends of a range as far as the range does not cover them. */
  private async own(from: number, to: number): Promise<void> {
    for (const number of new Set([Math.floor(from / CLUSTER), Math.floor((to - 1) / CLUSTER)])) {
      if (this.map[number] === WRITTEN) continue;
      const start = number * CLUSTER;
      const end = Math.min(start + CLUSTER, this.size);
      if (from <= start && to >= end) continue;
      const before =
        this.map[number] === ZEROED ? Buffer.alloc(end - start) : await this.base.read(start, end - start);
      await this.file.write(before, 0, before.length, start);
      this.map[number] = WRITTEN;
    }
  }

  private async readFile(into: Buffer, position: number): Promise<void> {
    for (let at = 0; at < into.length; ) {
      const { bytesRead } = await this.file.read(into, at, into.length - at, position + at);
      if (bytesRead === 0) {
        // past what was written last
        into.fill(0, at);
        return;
      }
      at += bytesRead;
    }
  }

  private *stretches(offset: number, length: number): Generator<Stretch> {
    const end = offset + length;
    for (let at = offset; at < end; ) {
      const state = this.map[Math.floor(at / CLUSTER)]!;
      let number = Math.floor(at / CLUSTER) + 1;
      while (number * CLUSTER < end && this.map[number] === state) number += 1;
      const to = Math.min(end, number * CLUSTER);
      yield { at, part: to - at, state };
      at = to;
    }
  }
}

interface Stretch {
  readonly at: number;
  readonly part: number;
  readonly state: number;
}
