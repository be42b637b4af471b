import { parentPort, type ResourceLimits, Worker, workerData } from "node:worker_threads";
import { type Code, CodedError } from "@/core/codes";
import { Rest } from "./rest";

/** One thread, and how much it was asked that it has not answered yet. */
export interface Slot {
  readonly worker: Worker;
  busy: number;
}

interface Waiting<Answer> {
  readonly resolve: (answer: Answer) => void;
  readonly reject: (error: unknown) => void;
}

interface Asked<Job> {
  readonly id: number;
  readonly job: Job;
}
/** Sent when a thread is no longer needed. */
const OVER = "over";
interface Answered<Answer> {
  readonly id: number;
  readonly answer?: Answer;
  /** Of an error that is sent, nothing is left but its words. */
  readonly failure?: { readonly code: Code | null; readonly message: string };
}

/** Threads that run one program and are kept for the whole process; they do not keep it alive. */
export class Threads<Job, Answer> {
  private readonly waiting = new Map<number, Waiting<Answer>>();
  private readonly slots: Slot[];
  private next = 0;
  /** Why one of them ended; whoever asks afterwards is told at once. */
  private failure: Error | null = null;

  constructor(
    file: string,
    readonly count: number,
    limits: ResourceLimits,
    /** Told when a thread ended that should not: all that waited has failed. */
    private readonly broken: () => void,
  ) {
    this.slots = Array.from({ length: count }, () => this.begin(file, limits));
  }

  private begin(file: string, resourceLimits: ResourceLimits): Slot {
    const rest = Rest.ofNewThread();
    const worker = new Worker(file, { resourceLimits, workerData: rest.shared });
    const slot = { worker, busy: 0 };
    worker.on("message", ({ id, answer, failure }: Answered<Answer>) => {
      const asked = this.waiting.get(id);
      this.waiting.delete(id);
      slot.busy -= 1;
      if (slot.busy === 0) worker.unref();
      if (failure) asked?.reject(errorOf(failure));
      else asked?.resolve(answer as Answer);
    });
    worker.on("error", (error: Error) => {
      this.failure ??= error;
      // nothing is told apart any more: all that waits fails, and its runs with it
      for (const { reject } of this.waiting.values()) reject(error);
      this.waiting.clear();
      for (const other of this.slots) other.worker.postMessage(OVER);
      this.broken();
    });
    worker.on("exit", () => rest.forget());
    worker.unref();
    return slot;
  }

  /** The one that has least to do. */
  get idlest(): Slot {
    return this.slots.reduce((a, b) => (b.busy < a.busy ? b : a));
  }

  /** Asks a thread; memory that is its own from then on is named in `own`. Throws what it failed with. */
  ask(job: Job, own: readonly ArrayBuffer[] = [], slot = this.idlest): Promise<Answer> {
    if (this.failure) return Promise.reject(this.failure);
    return new Promise((resolve, reject) => {
      const id = this.next;
      this.next += 1;
      this.waiting.set(id, { resolve, reject });
      if (slot.busy === 0) slot.worker.ref();
      slot.busy += 1;
      slot.worker.postMessage({ id, job } satisfies Asked<Job>, own);
    });
  }
}

const errorOf = ({ code, message }: { readonly code: Code | null; readonly message: string }): Error =>
  code ? Object.assign(new CodedError(code), { message }) : new Error(message);

/** What a thread's program does with each job, one after another; the answer may give memory of its own away. */
export function answerJobs<Job, Answer>(
  work: (
    job: Job,
  ) =>
    | Promise<{ readonly answer: Answer; readonly own?: readonly ArrayBuffer[] }>
    | { readonly answer: Answer },
): void {
  const port = parentPort!;
  const rest = new Rest(workerData as SharedArrayBuffer);
  port.on("message", async (asked: Asked<Job> | typeof OVER) => {
    if (asked === OVER) return port.close();
    if (!rest.begin()) return;
    const { id, job } = asked;
    try {
      const done = await work(job);
      const own = "own" in done ? done.own : [];
      port.postMessage({ id, answer: done.answer } satisfies Answered<Answer>, own ?? []);
    } catch (error) {
      const code = error instanceof CodedError ? error.code : null;
      const failure = { code, message: (error as Error).message };
      port.postMessage({ id, failure } satisfies Answered<Answer>);
    } finally {
      rest.end();
    }
  });
  rest.end();
}
