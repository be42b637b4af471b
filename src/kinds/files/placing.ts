import { existsSync } from "node:fs";
import { availableParallelism } from "node:os";
import { dirname, join } from "node:path";
import { fileURLToPath } from "node:url";
import type { Holder } from "@/store/cutting/windows";
import type { ByteString } from "@/store/tree/tree";
import { Threads } from "@/store/write/threads";
import {
  type Batch,
  BatchBuilder,
  type BatchedReport,
  type BatchMemory,
  type FileToPlace,
  makeMemory,
  type PieceToWrite,
  type PieceWritten,
  type Placed,
  type PlacingAnswer,
  type PlacingJob,
  placeAll,
  placedOf,
  writePiece,
} from "./placing-batch";

/**
 * Puts small files in place beside the thread that reads them: making, naming and dating a file takes longer than its
 * content. What became of each is told in the order in which they were handed over.
 */
export interface Placing {
  /**
   * A file of at most `SMALL_BYTES`. Its pieces are copied at once, or held until it is in place where there is a holder.
   * Where much is under way, the answer is to be waited for.
   */
  put(
    file: FileToPlace,
    content: readonly Uint8Array[],
    told: (placed: Placed) => void,
    holder?: Holder,
  ): Promise<void> | null;
  /** Writes a piece of a larger file that is open. The piece must stay as it is until then. Throws what the system says. */
  write(fd: number, piece: Uint8Array, offset: number): Promise<void>;
  /** Does something once all that was handed over before is in place. */
  afterwards(work: () => void): void;
  /** Until all of it is done. Throws what nobody foresaw. */
  drained(): Promise<void>;
}

/** What is larger is written by the thread that reads it, piece by piece. */
export const SMALL_BYTES = 256 * 1024;
const MOST_THREADS = 2;
const WORKER_FILE = join(dirname(fileURLToPath(import.meta.url)), "placing-worker.mjs");

type PlacingThreads = Threads<PlacingJob, PlacingAnswer>;
let threads: PlacingThreads | null = null;

function theThreads(): PlacingThreads {
  const limits = { maxYoungGenerationSizeMb: 8, maxOldGenerationSizeMb: 48 };
  threads ??= new Threads(WORKER_FILE, Math.min(MOST_THREADS, availableParallelism()), limits, () => {
    threads = null;
  });
  return threads;
}

/** Puts a batch in place; `begins`: it begins in a folder that the batch before has no file in. */
type Place = (batch: Batch, begins: boolean) => Promise<BatchedReport>;

const placeHere: Place = async (batch) => placeAll(batch);

/**
 * Two threads that give files of one folder their names wait for each other: who had its first files has the others as well,
 * unless that has much to do and another one nothing.
 */
function placeInThreads(running: PlacingThreads): Place {
  let slot = running.idlest;
  return async (batch, begins) => {
    const { idlest } = running;
    if (begins || slot.busy - idlest.busy >= MUCH_TO_DO) slot = idlest;
    return (await running.ask(batch, [], slot)) as BatchedReport;
  };
}

const MUCH_TO_DO = 2;

type WritePiece = (piece: PieceToWrite) => Promise<PieceWritten>;

/** What does not lie in shared memory is written here. */
const writeInThreads =
  (running: PlacingThreads): WritePiece =>
  async (piece) =>
    piece.bytes.buffer instanceof SharedArrayBuffer
      ? ((await running.ask(piece)) as PieceWritten)
      : writePiece(piece);

/**
 * Threads where the built programs lie; in this thread otherwise, as in unit tests.
 *
 * @param mark names files that are not whole yet: letters, digits and dashes
 */
export function beginPlacing(mark: string): Placing {
  if (!existsSync(WORKER_FILE)) return new Batches(mark, placeHere, async (piece) => writePiece(piece), 1);
  const running = theThreads();
  return new Batches(mark, placeInThreads(running), writeInThreads(running), running.count * 3);
}

type Told = (placed: Placed) => void;

/** Who hears what became of each file of a batch, and what is done once that of so many was told. */
interface Hearers {
  readonly told: Told[];
  readonly afterwards: { readonly told: number; readonly work: () => void }[];
}

class Batches implements Placing {
  private memory = makeMemory();
  private readonly memories: BatchMemory[] = [];
  private building: BatchBuilder;
  private hearers: Hearers = { told: [], afterwards: [] };
  /** The folder of the last file, and whether what is being gathered began with another one. */
  private folder: ByteString | null = null;
  private begins = true;
  /** Ends when all that was handed over has been told of, in order. */
  private line: Promise<void> = Promise.resolve();
  private failure: { readonly error: unknown } | null = null;
  private readonly underWay = new Set<Promise<unknown>>();

  constructor(
    private readonly mark: string,
    private readonly place: Place,
    private readonly writePiece: WritePiece,
    private readonly width: number,
  ) {
    this.building = new BatchBuilder(this.memory, mark);
  }

  put(
    file: FileToPlace,
    content: readonly Uint8Array[],
    told: Told,
    holder: Holder | null = null,
  ): Promise<void> | null {
    let length = 0;
    for (const piece of content) length += piece.length;
    const add = () => {
      if (this.building.count === 0) this.begins = file.folder !== this.folder;
      this.folder = file.folder;
      this.building.add(file, content, holder);
      this.hearers.told.push(told);
    };
    if (this.building.hasRoomFor(length, file.folder)) {
      add();
      return null;
    }
    holder?.hold();
    return this.flush()
      .then(add)
      .finally(() => holder?.release());
  }

  async write(fd: number, bytes: Uint8Array, offset: number): Promise<void> {
    const failure = await this.writePiece({ fd, bytes, offset });
    if (failure) throw Object.assign(new Error(failure.message), { code: failure.code });
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
    this.building = new BatchBuilder(this.memory, this.mark);
    this.hearers = { told: [], afterwards: [] };
    const done = this.place(batch, this.begins);
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
      let toldOf = 0;
      const tell = (until: number) => {
        for (; toldOf < until; toldOf += 1) hearers.told[toldOf]!(placedOf(placed, toldOf));
      };
      for (const { told, work } of hearers.afterwards) {
        tell(told);
        work();
      }
      tell(hearers.told.length);
    });
  }

  private inLine(work: () => Promise<void> | void): void {
    this.line = this.line.then(work).catch((error) => {
      this.failure ??= { error };
    });
  }

  afterwards(work: () => void): void {
    // what is still being gathered goes first, but a batch is not sent for it alone
    const { told, afterwards } = this.hearers;
    if (told.length) afterwards.push({ told: told.length, work });
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
