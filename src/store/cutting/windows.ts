import { CUT_MODULE } from "./cut-module";

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
    readonly bytes: Buffer,
    readonly base: number,
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

/** The windows of one run. */
export class Windows {
  private readonly free: Window[] = [];
  private readonly waiting: ((window: Window) => void)[] = [];
  private readonly memory: WebAssembly.Memory;
  private readonly cutCall: (start: number, end: number) => number;
  private static readonly spare: Windows[] = [];

  private constructor() {
    const pages = 1 + (WINDOWS * WINDOW_BYTES) / PAGE;
    this.memory = new WebAssembly.Memory({ initial: pages, maximum: pages, shared: true });
    compiled ??= new WebAssembly.Module(CUT_MODULE as BufferSource);
    const { exports } = new WebAssembly.Instance(compiled, { keep: { memory: this.memory } });
    this.cutCall = exports.cut as (start: number, end: number) => number;
    for (let i = 0; i < WINDOWS; i += 1) {
      const base = PAGE + i * WINDOW_BYTES;
      this.free.push(new Window(Buffer.from(this.memory.buffer, base, WINDOW_BYTES), base, this.freed));
    }
  }

  /** Windows for a run whose client has this table; give them back when all is stored. */
  static lend(gear: Uint32Array): Windows {
    const windows = Windows.spare.pop() ?? new Windows();
    new Uint32Array(windows.memory.buffer, 0, 256).set(gear);
    return windows;
  }

  /** Only when all of them are free again; after a failure they are left to the collector. */
  giveBack(): void {
    if (this.free.length === WINDOWS) Windows.spare.push(this);
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

  /** Length of the first chunk of a window's `[start, end)`: `nextCut` of the chunker, in machine code. */
  cut(window: Window, start: number, end: number): number {
    return this.cutCall(window.base + start, window.base + end);
  }
}
