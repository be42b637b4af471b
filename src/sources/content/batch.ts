import type { ContentFacts } from "./cutter";

/** What the thread that reads is asked: to begin with a run, to read more of it, or to end with it. */
export type ContentJob =
  | { readonly begin: number; readonly memory: WebAssembly.Memory; readonly key: Uint8Array }
  | {
      readonly read: number;
      /** Places of files, with a NUL after each. */
      readonly places: string;
      /** Windows that it may fill, by their numbers. */
      readonly windows: readonly number[];
    }
  | { readonly end: number };

/** What was read of some files, as it is sent: little for each, since it adds up. */
export interface ContentAnswer {
  /** Three numbers for each chunk that was found: window, first byte, length. */
  readonly chunks: Uint32Array;
  readonly ids: Uint8Array;
  /** Three numbers for each file that is done: chunks found since the file before or the answer before, size, marks. */
  readonly files: Float64Array;
  /** What few files have, by the number of the file in this answer. */
  readonly others: ReadonlyMap<number, Others>;
  /** Windows that are full. */
  readonly left: readonly number[];
  /** It cannot go on without another window. */
  readonly starved: boolean;
}

export interface Others {
  readonly extents: ContentFacts["extents"];
  readonly xattrs: ContentFacts["xattrs"];
  readonly failure: Failure | null;
}

/** An error of the system's, of which its code is what counts. */
export interface Failure {
  readonly code: string;
  readonly message: string;
}

export const CHUNK_WORDS = 3;
export const FILE_WORDS = 3;
const DENSE = 1;
const SHORT = 2;
const CHANGED = 4;

const NOTHING: Others = { extents: null, xattrs: [], failure: null };

/** Gathers what was read until it is sent. */
export class AnswerBuilder {
  private readonly chunks: number[] = [];
  private readonly ids: Uint8Array[] = [];
  private readonly files: number[] = [];
  private readonly others = new Map<number, Others>();
  readonly left: number[] = [];
  private counted = 0;

  chunk(id: Uint8Array, window: number, start: number, length: number): void {
    this.chunks.push(window, start, length);
    this.ids.push(id);
  }

  done({ size, dense, short, changed, extents, xattrs }: ContentFacts): void {
    if (extents || xattrs.length) this.others.set(this.fileCount, { extents, xattrs, failure: null });
    this.file(size, (dense ? DENSE : 0) | (short ? SHORT : 0) | (changed ? CHANGED : 0));
  }

  failed(failure: Failure): void {
    this.others.set(this.fileCount, { ...NOTHING, failure });
    this.file(0, 0);
  }

  private get fileCount(): number {
    return this.files.length / FILE_WORDS;
  }

  private file(size: number, marks: number): void {
    const chunks = this.chunks.length / CHUNK_WORDS;
    this.files.push(chunks - this.counted, size, marks);
    this.counted = chunks;
  }

  answer(starved: boolean): ContentAnswer {
    return {
      chunks: Uint32Array.from(this.chunks),
      ids: Buffer.concat(this.ids),
      files: Float64Array.from(this.files),
      others: this.others,
      left: this.left,
      starved,
    };
  }
}

/** How many chunks of a file of an answer are in this answer. */
export const chunksOf = ({ files }: ContentAnswer, number: number): number => files[number * FILE_WORDS]!;

/** What was read of a file of an answer, or why not. */
export function factsOf({ files, others }: ContentAnswer, number: number): ContentFacts | Failure {
  const size = files[number * FILE_WORDS + 1]!;
  const marks = files[number * FILE_WORDS + 2]!;
  const { extents, xattrs, failure } = others.get(number) ?? NOTHING;
  return (
    failure ?? {
      size,
      extents,
      xattrs,
      dense: (marks & DENSE) > 0,
      short: (marks & SHORT) > 0,
      changed: (marks & CHANGED) > 0,
    }
  );
}
