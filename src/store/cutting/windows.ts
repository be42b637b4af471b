import { TABLE_WORDS } from "../write/chunker";
import { CUT_MODULE } from "./cut-module";
import { SPREAD_BYTES, spreadWeights } from "./spread";

/**
 * Memory that content is read into, cut in, and stored from. A window is used again when everything that lies in it is
 * stored; so a run of any size works in the same few mebibytes, and nothing is left to collect. The memory is shared with the threads of the press.
 */
export const WINDOW_BYTES = 8 * 1024 * 1024;
const WINDOWS = 5;
const PAGE = 64 * 1024;

/** Somebody who must know when bytes are no longer needed. */
export interface Holder {
  hold(): void;
  release(): void;
}

export class Window implements Holder {
  private holders = 1;
  constructor(
    readonly number: number,
    readonly bytes: Buffer,
    private readonly free: (window: Window) => void,
  ) {}

  hold(): void {
    this.holders += 1;
  }

  release(): void {
    this.holders -= 1;
    if (this.holders === 0) {
      this.holders = 1;
      this.free(this);
    }
  }
}

let compiled: WebAssembly.Module | undefined;

/** The memory of a run's windows as one thread has it: the windows by their numbers, and the cutting in machine code. */
export class WindowMemory {
  private readonly windows: Buffer[];
  private readonly cutCall: (start: number, end: number, known: number) => number;
  private readonly spreadCall: (from: number, to: number) => number;

  constructor(readonly shared: WebAssembly.Memory) {
    compiled ??= new WebAssembly.Module(CUT_MODULE as BufferSource);
    const { exports } = new WebAssembly.Instance(compiled, { keep: { memory: shared } });
    this.cutCall = exports.cut as WindowMemory["cutCall"];
    this.spreadCall = exports.spread as WindowMemory["spreadCall"];
    this.windows = Array.from({ length: WINDOWS }, (_, i) =>
      Buffer.from(shared.buffer, PAGE + i * WINDOW_BYTES, WINDOW_BYTES),
    );
  }

  bytes(window: number): Buffer {
    return this.windows[window]!;
  }

  /**
   * Length of the first chunk of a window's `[start, end)`: `nextCut` of the chunker, in machine code.
   *
   * @param known up to where it is known from an earlier call that there is no cut
   */
  cut(window: number, start: number, end: number, known = start): number {
    const base = PAGE + window * WINDOW_BYTES;
    return this.cutCall(base + start, base + end, base + known);
  }

  /** `spreadOf` of `SPREAD_BYTES` of a window from a place on, or of fewer, in machine code. */
  spread(window: number, start: number, length: number): number {
    const from = PAGE + window * WINDOW_BYTES + start;
    return this.spreadCall(from, from + Math.min(SPREAD_BYTES, length));
  }
}

/** Where in a run's memory the weights of spreads lie, as cut.wat has it. */
const WEIGHTS_AT = 4096;

/** The windows of one run. */
export class Windows {
  readonly memory: WindowMemory;
  private readonly all: readonly Window[];
  private readonly free: Window[];
  private readonly waiting: ((window: Window) => void)[] = [];
  private static readonly spare: Windows[] = [];

  private constructor() {
    const pages = 1 + (WINDOWS * WINDOW_BYTES) / PAGE;
    this.memory = new WindowMemory(new WebAssembly.Memory({ initial: pages, maximum: pages, shared: true }));
    new Float64Array(this.memory.shared.buffer, WEIGHTS_AT, spreadWeights.length).set(spreadWeights);
    this.all = Array.from(
      { length: WINDOWS },
      (_, number) => new Window(number, this.memory.bytes(number), this.freed),
    );
    this.free = [...this.all];
  }

  /** Windows for a run whose client has this table; give them back when all is stored. */
  static lend(gear: Uint32Array): Windows {
    const windows = Windows.spare.pop() ?? new Windows();
    new Uint32Array(windows.memory.shared.buffer, 0, TABLE_WORDS).set(gear);
    return windows;
  }

  /** Only when all of them are free again; after a failure they are left to the collector. */
  giveBack(): void {
    if (this.free.length === WINDOWS) Windows.spare.push(this);
  }

  at(number: number): Window {
    return this.all[number]!;
  }

  /** A free window, or null: wait with `next` then. */
  take(): Window | null {
    return this.free.pop() ?? null;
  }

  next(): Promise<Window> {
    return new Promise((resolve) => this.waiting.push(resolve));
  }

  private readonly freed = (window: Window): void => {
    const waiter = this.waiting.shift();
    if (waiter) waiter(window);
    else this.free.push(window);
  };
}
