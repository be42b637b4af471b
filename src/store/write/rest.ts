/**
 * Whether a thread is at work, which its process sees without a message. A thread that is stopped while it calls into a
 * library takes the whole process down with it (SIGABRT); so a process that ends lets its threads come to rest first.
 */
export class Rest {
  private readonly words: Int32Array;

  constructor(readonly shared: SharedArrayBuffer) {
    this.words = new Int32Array(shared);
  }

  /** Of a thread that is about to begin: it is at work until its program is loaded. At its process's end it is waited for. */
  static ofNewThread(): Rest {
    const rest = new Rest(new SharedArrayBuffer(WORDS * Int32Array.BYTES_PER_ELEMENT));
    Atomics.store(rest.words, WORKING, 1);
    if (!awaited) process.once("exit", letAllRest);
    awaited = true;
    living.add(rest);
    return rest;
  }

  /** The thread has ended, by whatever. */
  forget(): void {
    living.delete(this);
  }

  /** Before a job; false where the process ends: the job is not to be begun. */
  begin(): boolean {
    Atomics.add(this.words, WORKING, 1);
    if (!Atomics.load(this.words, ENDING)) return true;
    this.end();
    return false;
  }

  /** After a job that was begun, or the thread's program was loaded. */
  end(): void {
    Atomics.sub(this.words, WORKING, 1);
    Atomics.notify(this.words, WORKING);
  }

  /** No job is begun from now on. */
  refuse(): void {
    Atomics.store(this.words, ENDING, 1);
  }

  /** Stands still until what was begun is done, or until a moment of this process's clock, in ms. */
  wait(until: number): void {
    for (;;) {
      const working = Atomics.load(this.words, WORKING);
      const left = until - performance.now();
      if (working <= 0 || left <= 0) return;
      Atomics.wait(this.words, WORKING, working, left);
    }
  }
}

/** Jobs that were begun and not ended. */
const WORKING = 0;
/** Whether the process ends. */
const ENDING = 1;
const WORDS = 2;

/** A job takes less than a second; a thread that hangs does not keep its process for ever. */
const MOST_MS = 10_000;

/** Of this process's threads. */
const living = new Set<Rest>();
let awaited = false;

function letAllRest(): void {
  for (const rest of living) rest.refuse();
  const until = performance.now() + MOST_MS;
  for (const rest of living) rest.wait(until);
}
