import type { ByteString } from "@/store/tree/tree";

/** So many names are strings at a time. */
const RUN = 65_536;
const NUL = 0;

/** Sorted names with a NUL after each, gone through. */
class PackedNames {
  private at = 0;
  name: ByteString = "";

  constructor(private readonly bytes: Buffer) {
    this.next();
  }

  /** False when there is none left. */
  next(): boolean {
    const end = this.bytes.indexOf(NUL, this.at);
    if (end < 0) return false;
    this.name = this.bytes.toString("latin1", this.at, end);
    this.at = end + 1;
    return true;
  }
}

/**
 * The names in one folder. Those of a very large one lie packed, in runs that are sorted each and merged when they are gone
 * through, so that the heap has little of them: a million take some 25 MB outside of it.
 */
export class FolderNames {
  count = 0;
  private run: ByteString[] = [];
  private readonly packed: Buffer[] = [];

  /** @param runLength so many names are packed at once */
  constructor(private readonly runLength = RUN) {}

  add(name: ByteString): void {
    this.run.push(name);
    this.count += 1;
    if (this.run.length === this.runLength) this.pack();
  }

  private pack(): void {
    this.packed.push(Buffer.from(`${this.run.sort().join("\0")}\0`, "latin1"));
    this.run = [];
  }

  /** The names in byte order, once all were added. */
  inOrder(): Iterable<ByteString> {
    if (this.packed.length === 0) return this.run.sort();
    if (this.run.length) this.pack();
    return merged(this.packed);
  }
}

/** One run's next name after another, always the least of them. */
function* merged(runs: readonly Buffer[]): Iterable<ByteString> {
  // the least comes last
  const heads = runs.map((run) => new PackedNames(run)).sort((a, b) => (a.name < b.name ? 1 : -1));
  for (let least = heads.pop(); least; least = heads.pop()) {
    yield least.name;
    if (least.next()) heads.splice(placeOf(heads, least.name), 0, least);
  }
}

/** How many of the heads, which fall, have a greater name. */
function placeOf(heads: readonly PackedNames[], name: ByteString): number {
  let [low, high] = [0, heads.length];
  while (low < high) {
    const middle = (low + high) >> 1;
    if (heads[middle]!.name > name) low = middle + 1;
    else high = middle;
  }
  return low;
}
