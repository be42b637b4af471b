/** Chance that comes out the same each time: the demo's files are alike on every machine (mulberry32). */
export class Chance {
  constructor(private state: number) {}

  next(): number {
    this.state = (this.state + 0x6d2b79f5) | 0;
    let t = Math.imul(this.state ^ (this.state >>> 15), 1 | this.state);
    t = (t + Math.imul(t ^ (t >>> 7), 61 | t)) ^ t;
    return ((t ^ (t >>> 14)) >>> 0) / 4294967296;
  }

  below(limit: number): number {
    return Math.floor(this.next() * limit);
  }

  of<T>(list: readonly T[]): T {
    return list[this.below(list.length)]!;
  }

  bytes(length: number): Buffer {
    const bytes = Buffer.allocUnsafe(length);
    for (let i = 0; i < length; i += 1) bytes[i] = this.below(256);
    return bytes;
  }
}
