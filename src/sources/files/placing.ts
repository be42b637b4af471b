import { existsSync } from "node:fs";
import { availableParallelism } from "node:os";
import { dirname, join } from "node:path";
import { fileURLToPath } from "node:url";
import { Worker } from "node:worker_threads";
import type { Holder } from "@/store/cutting/windows";
import {
  type Batch,
  BatchBuilder,
  type BatchMemory,
  type FileToPlace,
  makeMemory,
  type Placed,
  placeAll,
  type ToldShortly,
  toldInFull,
} from "./placing-batch";

/**
 * Puts small files in place beside the thread that reads them: making, naming and dating a file takes longer than its
 * content. What became of each is told in the order in which they were handed over.
 */
export interface Placing {
  /**
   * A file of at most `SMALL_BYTES`. Its pieces are copied at once, or held until it is in place where there is a holder.
   * Waits where much is under way.
   */
  put(
    file: FileToPlace,
    content: readonly Uint8Array[],
    told: (placed: Placed) => void,
    holder?: Holder,
  ): Promise<void>;
  /** Does something once all that was handed over before is in place. */
  afterwards(work: () => void): void;
  /** Until all of it is done. Throws what nobody foresaw. */
  drained(): Promise<void>;
}

/** What is larger is written by the thread that reads it, piece by piece. */
export const SMALL_BYTES = 256 * 1024;
const MOST_THREADS = 2;
const WORKER_FILE = join(dirname(fileURLToPath(import.meta.url)), "placing-worker.mjs");

interface Waiting {
  readonly resolve: (told: ToldShortly) => void;
  readonly reject: (error: unknown) => void;
}

interface Answer {
  readonly id: number;
  readonly told?: ToldShortly;
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
    worker.on("message", ({ id, told, error }: Answer) => {
      const { resolve, reject } = this.waiting.get(id)!;
      this.waiting.delete(id);
      slot.busy -= 1;
      if (slot.busy === 0) worker.unref();
      if (told) resolve(told);
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

  async place(batch: Batch): Promise<readonly Placed[]> {
    const told = await new Promise<ToldShortly>((resolve, reject) => {
      const id = this.next;
      this.next += 1;
      this.waiting.set(id, { resolve, reject });
      const slot = this.slots.reduce((a, b) => (b.busy < a.busy ? b : a));
      if (slot.busy === 0) slot.worker.ref();
      slot.busy += 1;
      slot.worker.postMessage({ id, ...batch });
    });
    return toldInFull(told, batch.count);
  }
}

let threads: Threads | null = null;

/** Threads where the built programs lie; in this thread otherwise, as in unit tests. */
export function beginPlacing(): Placing {
  if (!existsSync(WORKER_FILE)) return new Batches(async (batch) => placeAll(batch), 1);
  threads ??= new Threads(WORKER_FILE);
  const running = threads;
  return new Batches((batch) => running.place(batch), running.width);
}

/** Who hears what became of a file, and what is done once that was told. */
interface Hearer {
  readonly told: (placed: Placed) => void;
  readonly afterwards: (() => void)[];
}

class Batches implements Placing {
  private memory = makeMemory();
  private readonly memories: BatchMemory[] = [];
  private building = new BatchBuilder(this.memory);
  private hearers: Hearer[] = [];
  /** Ends when all that was handed over has been told of, in order. */
  private line: Promise<void> = Promise.resolve();
  private failure: { readonly error: unknown } | null = null;
  private readonly underWay = new Set<Promise<unknown>>();

  constructor(
    private readonly place: (batch: Batch) => Promise<readonly Placed[]>,
    private readonly width: number,
  ) {}

  async put(
    file: FileToPlace,
    content: readonly Uint8Array[],
    told: Hearer["told"],
    holder: Holder | null = null,
  ): Promise<void> {
    const length = content.reduce((sum, piece) => sum + piece.length, 0);
    if (!this.building.hasRoomFor(length)) {
      holder?.hold();
      await this.flush().finally(() => holder?.release());
    }
    this.building.add(file, content, holder);
    this.hearers.push({ told, afterwards: [] });
  }

  private async flush(): Promise<void> {
    this.send();
    while (this.underWay.size >= this.width) await Promise.race(this.underWay);
    this.rethrow();
  }

  private send(): void {
    if (this.building.count === 0) return;
    const { hearers, memory, building } = this;
    const batch = building.batch();
    this.memory = this.memories.pop() ?? makeMemory();
    this.building = new BatchBuilder(this.memory);
    this.hearers = [];
    const done = this.place(batch);
    const settled = done.then(
      () => {
        building.release();
        this.memories.push(memory);
      },
      () => building.release(),
    );
    this.underWay.add(settled);
    settled.finally(() => this.underWay.delete(settled));
    this.inLine(async () => {
      const placed = await done;
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
