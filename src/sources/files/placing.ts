import { existsSync } from "node:fs";
import { availableParallelism } from "node:os";
import { dirname, join } from "node:path";
import { fileURLToPath } from "node:url";
import { Worker } from "node:worker_threads";
import { type Batch, type FileToPlace, type Placed, placeAll } from "./placing-batch";

/**
 * Puts small files in place beside the thread that reads them: making, naming and dating a file takes longer than its
 * content. What became of each is told in the order in which they were handed over.
 */
export interface Placing {
  /** A file of at most `SMALL_BYTES`, whose pieces are copied at once. Waits where much is under way. */
  put(
    file: Omit<FileToPlace, "length">,
    content: readonly Uint8Array[],
    told: (placed: Placed) => void,
  ): Promise<void>;
  /** Does something once all that was handed over before is in place. */
  afterwards(work: () => void): void;
  /** Until all of it is done. Throws what nobody foresaw. */
  drained(): Promise<void>;
}

/** What is larger is written by the thread that reads it, piece by piece. */
export const SMALL_BYTES = 256 * 1024;
const BATCH_FILES = 64;
const BATCH_BYTES = 1024 * 1024;
const MOST_THREADS = 2;
const WORKER_FILE = join(dirname(fileURLToPath(import.meta.url)), "placing-worker.mjs");

interface Done {
  readonly placed: readonly Placed[];
  /** The memory of the batch, to be used again. */
  readonly memory: ArrayBuffer;
}
interface Waiting {
  readonly resolve: (done: Done) => void;
  readonly reject: (error: unknown) => void;
}

interface Answer extends Partial<Done> {
  readonly id: number;
  readonly error?: unknown;
}

/** Threads that are kept for the whole process; they do not keep it alive. */
class Threads {
  private readonly waiting = new Map<number, Waiting>();
  private readonly slots: { readonly worker: Worker; busy: number }[];
  private next = 0;

  constructor(file: string) {
    const count = Math.min(MOST_THREADS, availableParallelism());
    this.slots = Array.from({ length: count }, () => this.begin(file));
  }

  get width(): number {
    return this.slots.length * 2;
  }

  private begin(file: string) {
    const worker = new Worker(file, {
      resourceLimits: { maxYoungGenerationSizeMb: 8, maxOldGenerationSizeMb: 48 },
    });
    const slot = { worker, busy: 0 };
    worker.on("message", ({ id, placed, memory, error }: Answer) => {
      const { resolve, reject } = this.waiting.get(id)!;
      this.waiting.delete(id);
      slot.busy -= 1;
      if (slot.busy === 0) worker.unref();
      if (placed && memory) resolve({ placed, memory });
      else reject(error);
    });
    worker.on("error", (error) => {
      for (const { reject } of this.waiting.values()) reject(error);
      this.waiting.clear();
      threads = null;
    });
    worker.unref();
    return slot;
  }

  place(batch: Batch): Promise<Done> {
    return new Promise((resolve, reject) => {
      const id = this.next;
      this.next += 1;
      this.waiting.set(id, { resolve, reject });
      const slot = this.slots.reduce((a, b) => (b.busy < a.busy ? b : a));
      if (slot.busy === 0) slot.worker.ref();
      slot.busy += 1;
      slot.worker.postMessage({ id, ...batch }, [batch.content.buffer as ArrayBuffer]);
    });
  }
}

let threads: Threads | null = null;

/** Threads where the built programs lie; in this thread otherwise, as in unit tests. */
export function beginPlacing(): Placing {
  if (!existsSync(WORKER_FILE)) return new Batches(placeHere, 1);
  threads ??= new Threads(WORKER_FILE);
  const running = threads;
  return new Batches((batch) => running.place(batch), running.width);
}

const placeHere = async (batch: Batch): Promise<Done> => ({
  placed: placeAll(batch),
  memory: batch.content.buffer as ArrayBuffer,
});

/** Who hears what became of a file, and what is done once that was told. */
interface Hearer {
  readonly told: (placed: Placed) => void;
  readonly afterwards: (() => void)[];
}

class Batches implements Placing {
  private content = new Uint8Array(BATCH_BYTES);
  private readonly memories: ArrayBuffer[] = [];
  private used = 0;
  private files: FileToPlace[] = [];
  private hearers: Hearer[] = [];
  /** Ends when all that was handed over has been told of, in order. */
  private line: Promise<void> = Promise.resolve();
  private failure: { readonly error: unknown } | null = null;
  private readonly underWay = new Set<Promise<unknown>>();

  constructor(
    private readonly place: (batch: Batch) => Promise<Done>,
    private readonly width: number,
  ) {}

  async put(
    file: Omit<FileToPlace, "length">,
    content: readonly Uint8Array[],
    told: Hearer["told"],
  ): Promise<void> {
    const length = content.reduce((sum, piece) => sum + piece.length, 0);
    if (this.files.length === BATCH_FILES || this.used + length > this.content.length) await this.flush();
    for (const piece of content) {
      this.content.set(piece, this.used);
      this.used += piece.length;
    }
    this.files.push({ ...file, length });
    this.hearers.push({ told, afterwards: [] });
  }

  private async flush(): Promise<void> {
    this.send();
    while (this.underWay.size >= this.width) await Promise.race(this.underWay);
    this.rethrow();
  }

  private send(): void {
    if (this.files.length === 0) return;
    const { files, hearers } = this;
    const batch = { content: this.content.subarray(0, this.used), files };
    this.content = new Uint8Array(this.memories.pop() ?? new ArrayBuffer(BATCH_BYTES));
    this.used = 0;
    this.files = [];
    this.hearers = [];
    const done = this.place(batch);
    const settled = done.then(
      ({ memory }) => {
        this.memories.push(memory);
      },
      () => {},
    );
    this.underWay.add(settled);
    settled.finally(() => this.underWay.delete(settled));
    this.inLine(async () => {
      const { placed } = await done;
      for (const [i, { told, afterwards }] of hearers.entries()) {
        told(placed[i]!);
        for (const work of afterwards) work();
      }
    });
  }

  private inLine(work: () => Promise<void> | void): void {
    this.line = this.line.then(work).catch((error) => {
      this.failure ??= { error };
    });
  }

  afterwards(work: () => void): void {
    // what is still being gathered goes first, but a batch is not sent for it alone
    const last = this.hearers.at(-1);
    if (last) last.afterwards.push(work);
    else this.inLine(work);
  }

  async drained(): Promise<void> {
    this.send();
    await this.line;
    this.rethrow();
  }

  private rethrow(): void {
    if (this.failure) throw this.failure.error;
  }
}
