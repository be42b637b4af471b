import { existsSync } from "node:fs";
import { dirname, join } from "node:path";
import { fileURLToPath } from "node:url";
import { CodedError } from "@/core/codes";
import type { Window, Windows } from "@/store/cutting/windows";
import { ID_BYTES, Identifier } from "@/store/seal/identity";
import type { ByteString } from "@/store/tree/tree";
import { Threads } from "@/store/write/threads";
import type { StoreWriter } from "@/store/write/writer";
import { itemError } from "../machine/open-file";
import type { SourceReader } from "../reader";
import { CHUNK_WORDS, type ContentAnswer, type ContentJob, chunksOf, FILE_WORDS, factsOf } from "./batch";
import { ContentCutter, type ContentFacts } from "./cutter";

/** What was read of a file; its chunks were given to the writer. */
export interface Content {
  readonly facts: ContentFacts;
  /** Ids of its chunks, one after another. */
  readonly chunks: Uint8Array;
  /** Bytes that were read. */
  readonly read: number;
}

/** Hears what became of a file: its content, or an error of the `file.` codes. */
export type Told = (content: Content | CodedError) => void;

/** Reads the content of a run's files and gives it to the writer, chunk by chunk. */
export interface Contents {
  /** More waits to be read than is good; `room` ends when it is less. Throws what nobody foresaw. */
  readonly crowded: boolean;
  room(): Promise<void>;
  /** Reads a file of about that size. What became of each file is told in the order of the calls. */
  read(path: ByteString, size: number, told: Told): Promise<void> | null;
  /** Until all of it is told. Throws what nobody foresaw. */
  drained(): Promise<void>;
  /** Lets go of windows and threads. */
  end(): void;
}

export interface ContentsOptions {
  readonly reader: SourceReader;
  readonly writer: StoreWriter;
  readonly windows: Windows;
  /** Names chunks. */
  readonly key: Buffer;
  /** Called while files are read, with so many bytes more. */
  readonly passed: (bytes: number) => void;
  readonly signal: AbortSignal;
}

const WORKER_FILE = join(dirname(fileURLToPath(import.meta.url)), "content-worker.mjs");

/** Beside this thread where the source's files have a place on this machine and the programs are built; here otherwise. */
export function beginContents(options: ContentsOptions): Contents {
  const { reader } = options;
  const place = reader.place?.bind(reader);
  return place && existsSync(WORKER_FILE)
    ? new ContentsBeside(options, place, theThreads())
    : new ContentsHere(options);
}

class ContentsHere implements Contents {
  readonly crowded = false;
  private ids: Buffer[] = [];
  private bytes = 0;
  private window: Window | null = null;
  private readonly cutter: ContentCutter;

  constructor(private readonly options: ContentsOptions) {
    const { windows, writer, key, passed } = options;
    this.cutter = new ContentCutter(windows.memory, new Identifier(key), (id, number, start, length) => {
      const window = windows.at(number);
      writer.addNamed("data", id, window.bytes.subarray(start, start + length), window);
      this.ids.push(id);
      this.bytes += length;
      passed(length);
    });
  }

  async room(): Promise<void> {}

  async read(path: ByteString, _size: number, told: Told): Promise<void> {
    told(await this.contentOf(path));
  }

  private async contentOf(path: ByteString): Promise<Content | CodedError> {
    this.ids = [];
    this.bytes = 0;
    try {
      const file = await this.options.reader.open(path);
      try {
        this.cutter.begin(file);
        let facts = this.cutter.goOn();
        for (; !facts; facts = this.cutter.goOn()) await (this.arriving() ?? this.nextWindow());
        return { facts, chunks: Buffer.concat(this.ids), read: this.bytes };
      } finally {
        this.cutter.giveUp();
        file.close();
      }
    } catch (error) {
      if (error instanceof CodedError && error.code.startsWith("file.")) return error;
      throw error;
    }
  }

  private stopped: Promise<never> | null = null;
  /** Waits for a stream; a run that is stopped does not wait. */
  private arriving(): Promise<void> | null {
    const pending = this.cutter.pending();
    if (!pending) return null;
    this.stopped ??= aborted(this.options.signal);
    return Promise.race([pending, this.stopped]);
  }

  private async nextWindow(): Promise<void> {
    const { windows, writer, signal } = this.options;
    // lets timers, answers and compressed blocks through
    await new Promise(setImmediate);
    if (signal.aborted) throw signal.reason;
    let next = windows.take();
    if (!next) {
      const freed = windows.next();
      await writer.drain();
      next = await Promise.race([freed, writer.failed]);
    }
    this.cutter.moveTo(next.number);
    this.window?.release();
    this.window = next;
  }

  async drained(): Promise<void> {}

  end(): void {
    this.window?.release();
    this.window = null;
  }
}

function aborted(signal: AbortSignal): Promise<never> {
  const stopped = new Promise<never>((_, reject) => {
    if (signal.aborted) reject(signal.reason);
    else signal.addEventListener("abort", () => reject(signal.reason), { once: true });
  });
  // it may come when nobody waits
  stopped.catch(() => {});
  return stopped;
}

/** The thread that reads. */
export type AskThread = Pick<Threads<ContentJob, ContentAnswer>, "ask">;

let threads: Threads<ContentJob, ContentAnswer> | null = null;
let runs = 0;

function theThreads(): Threads<ContentJob, ContentAnswer> {
  const limits = { maxYoungGenerationSizeMb: 4, maxOldGenerationSizeMb: 32 };
  threads ??= new Threads(WORKER_FILE, 1, limits, () => {
    threads = null;
  });
  return threads;
}

/** Files and bytes that are sent together: no more than that, so that the two threads never wait for each other long. */
const BATCH_FILES = 128;
const BATCH_BYTES = 2 * 1024 * 1024;
/** The next is asked for before an answer comes, so that the thread need not wait. */
const ASKED_AT_ONCE = 4;
/** The window that is filled, and the next one. */
const WINDOWS_GIVEN = 2;
const MOST_WAITING = 1024;

interface Waiting {
  readonly path: ByteString;
  readonly size: number;
  readonly told: Told;
}

export class ContentsBeside implements Contents {
  private readonly run = ++runs;
  private unsent: Waiting[] = [];
  private unsentBytes = 0;
  /** Sent and not told of yet, from `first` on. */
  private sent: Waiting[] = [];
  private first = 0;
  private sentBytes = 0;
  private asked = 0;
  private readonly given = new Set<number>();
  /** The thread cannot go on without another window. */
  private starved = true;
  private waitsForWindow = false;
  /** Nothing more is to come for now: even a few files are sent. */
  private flushing = false;
  private ids: Uint8Array[] = [];
  private bytes = 0;
  private ended = false;
  private failure: { readonly error: unknown } | null = null;
  private wakers: (() => void)[] = [];

  constructor(
    private readonly options: ContentsOptions,
    private readonly place: (path: ByteString) => ByteString,
    private readonly thread: AskThread,
  ) {
    const { windows, key, writer } = options;
    thread
      .ask({ begin: this.run, memory: windows.memory.shared, key: Uint8Array.from(key) })
      .catch(this.fail);
    writer.failed.catch(this.fail);
  }

  get crowded(): boolean {
    return this.unsent.length + this.sent.length - this.first >= MOST_WAITING;
  }

  async room(): Promise<void> {
    while (this.crowded && !this.failure) await this.news();
    this.rethrow();
  }

  read(path: ByteString, size: number, told: Told): null {
    this.unsent.push({ path, size, told });
    this.unsentBytes += size;
    if (this.isBatch) this.pump();
    return null;
  }

  async drained(): Promise<void> {
    this.flushing = true;
    this.pump();
    while ((this.unsent.length || this.sent.length > this.first || this.asked) && !this.failure)
      await this.news();
    this.flushing = false;
    this.rethrow();
  }

  end(): void {
    this.ended = true;
    this.thread.ask({ end: this.run }).catch(() => {});
    // what may still be written to is left to the collector
    if (this.asked > 0) return;
    for (const number of this.given) this.options.windows.at(number).release();
    this.given.clear();
  }

  private get isBatch(): boolean {
    return this.unsent.length >= BATCH_FILES || this.unsentBytes >= BATCH_BYTES;
  }

  private news(): Promise<void> {
    return new Promise((resolve) => this.wakers.push(resolve));
  }

  private rethrow(): void {
    if (this.failure) throw this.failure.error;
  }

  private readonly fail = (error: unknown): void => {
    this.failure ??= { error };
    this.wake();
  };

  private wake(): void {
    for (const waker of this.wakers.splice(0)) waker();
  }

  /** Keeps the thread busy. */
  private pump(): void {
    while (!this.failure && !this.waitsForWindow && this.asked < ASKED_AT_ONCE) {
      const files = this.isBatch || (this.flushing && this.unsent.length > 0);
      // it goes on by itself with what it was sent, but for the end of each window
      const more = this.sent.length > this.first && (this.asked === 0 || this.sentBytes > BATCH_BYTES);
      if (!files && !more) return;
      const windows = this.topUp();
      if (this.starved && windows.length === 0 && this.given.size < WINDOWS_GIVEN) {
        this.waitForWindow();
        return;
      }
      this.ask(files ? this.nextBatch() : [], windows);
    }
  }

  private nextBatch(): Waiting[] {
    let [count, bytes] = [0, 0];
    while (count < Math.min(BATCH_FILES, this.unsent.length) && bytes < BATCH_BYTES) {
      bytes += this.unsent[count]!.size;
      count += 1;
    }
    this.unsentBytes -= bytes;
    return this.unsent.splice(0, count);
  }

  private topUp(): number[] {
    const windows: number[] = [];
    while (this.given.size < WINDOWS_GIVEN) {
      const window = this.options.windows.take();
      if (!window) break;
      this.given.add(window.number);
      windows.push(window.number);
    }
    return windows;
  }

  private waitForWindow(): void {
    const { windows, writer } = this.options;
    this.waitsForWindow = true;
    windows
      .next()
      .then((window) => {
        if (this.ended) {
          window.release();
          return;
        }
        this.waitsForWindow = false;
        this.given.add(window.number);
        this.ask([], [window.number]);
        this.pump();
      })
      .catch(this.fail);
    writer.drain().catch(this.fail);
  }

  private ask(files: readonly Waiting[], windows: readonly number[]): void {
    let places = "";
    for (const { path, size } of files) {
      places += `${this.place(path)}\0`;
      this.sentBytes += size;
    }
    if (files.length) {
      this.sent = [...this.sent.slice(this.first), ...files];
      this.first = 0;
    }
    this.asked += 1;
    this.starved = false;
    this.thread.ask({ read: this.run, places, windows }).then(this.hear).catch(this.fail);
  }

  private readonly hear = (answer: ContentAnswer): void => {
    this.asked -= 1;
    // nobody hears any more of a run that was broken off
    if (this.ended || this.failure) return;
    this.starved = answer.starved;
    for (const number of answer.left) this.given.delete(number);
    if (!answer.starved) this.pump();
    this.take(answer);
    for (const number of answer.left) this.options.windows.at(number).release();
    this.pump();
    this.wake();
  };

  private take(answer: ContentAnswer): void {
    const files = answer.files.length / FILE_WORDS;
    const all = answer.chunks.length / CHUNK_WORDS;
    let chunk = 0;
    for (let number = 0; number < files; number += 1) {
      const next = chunk + chunksOf(answer, number);
      this.addChunks(answer, chunk, next);
      chunk = next;
      const facts = factsOf(answer, number);
      const { path, size, told } = this.sent[this.first]!;
      this.first += 1;
      this.sentBytes -= size;
      const ids = this.ids.length === 1 ? this.ids[0]! : Buffer.concat(this.ids);
      const read = this.bytes;
      this.ids = [];
      this.bytes = 0;
      told("code" in facts ? itemError(facts, path) : { facts, chunks: ids, read });
    }
    this.addChunks(answer, chunk, all);
  }

  /** Chunks of the file that is read. */
  private addChunks({ chunks, ids }: ContentAnswer, from: number, to: number): void {
    if (from === to) return;
    const { windows, writer, passed } = this.options;
    for (let number = from; number < to; number += 1) {
      const id = Buffer.from(ids.buffer, ids.byteOffset + number * ID_BYTES, ID_BYTES);
      const window = windows.at(chunks[number * CHUNK_WORDS]!);
      const start = chunks[number * CHUNK_WORDS + 1]!;
      const length = chunks[number * CHUNK_WORDS + 2]!;
      writer.addNamed("data", id, window.bytes.subarray(start, start + length), window);
      this.bytes += length;
      passed(length);
    }
    this.ids.push(ids.subarray(from * ID_BYTES, to * ID_BYTES));
  }
}
