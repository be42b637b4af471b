import { existsSync } from "node:fs";
import { availableParallelism } from "node:os";
import { dirname, join } from "node:path";
import { fileURLToPath } from "node:url";
import { Threads } from "../write/threads";
import {
  type BlockJob,
  type BlockNames,
  misnamed,
  openBlock,
  type PressedBlock,
  pressBlock,
  type SealedBlock,
} from "./block";
import { compressor } from "./compressor";
import type { PressAnswer, PressJob } from "./worker";

/** Compresses and seals blocks beside the thread that reads, and opens them beside the one that writes files. */
export interface Press {
  /** How many blocks are worked on at a time. */
  readonly width: number;
  press(job: BlockJob): Promise<PressedBlock>;
  /**
   * The content of a block, in shared memory that is at least as long as it, and which of its chunks are not what they are
   * named. Throws `store.damaged` where it is not what was sealed.
   */
  open(block: SealedBlock, into: Buffer, names: BlockNames): Promise<OpenedBlock>;
}

export interface OpenedBlock {
  readonly content: Buffer;
  readonly wrong: readonly number[];
}

const MOST_THREADS = 4;
/** Where the built programs lie, the thread's own program lies beside them. */
const WORKER_FILE = join(dirname(fileURLToPath(import.meta.url)), "press-worker.mjs");

/** Works in this thread, but for the compressing: for programs that are not built, as in unit tests. */
export const inlinePress: Press = {
  width: 2,
  press: (job) => pressBlock(job, compressor, (length) => Buffer.allocUnsafe(length)),
  open: async (block, into, names) => {
    const content = await openBlock(block, compressor, into);
    return { content, wrong: misnamed(content, names) };
  },
};

/** The threads of this process. */
class ThreadedPress implements Press {
  readonly width: number;
  private readonly threads: Threads<PressJob, PressAnswer>;

  constructor(file: string) {
    const count = Math.min(MOST_THREADS, Math.max(2, availableParallelism()));
    const limits = { maxYoungGenerationSizeMb: 4, maxOldGenerationSizeMb: 32 };
    this.threads = new Threads(file, count, limits, forget);
    this.width = count * 2;
  }

  async press({ memory, ...job }: BlockJob): Promise<PressedBlock> {
    const { parts, own } = forThread(job.parts);
    const asked = { press: { ...job, parts }, memory: memory.shared };
    return (await this.threads.ask(asked, own)) as PressedBlock;
  }

  async open(block: SealedBlock, into: Buffer, names: BlockNames): Promise<OpenedBlock> {
    const wrong = (await this.threads.ask({ open: block, out: into, names })) as readonly number[];
    return { content: into.subarray(0, block.length), wrong };
  }
}

/** Parts of which one begins where the other ends become one: small files lie one after another as they were read. */
export function joined(parts: readonly Uint8Array[]): readonly Uint8Array[] {
  const runs: Uint8Array[] = [];
  for (const part of parts) {
    const last = runs.at(-1);
    if (last && last.buffer === part.buffer && last.byteOffset + last.length === part.byteOffset)
      runs[runs.length - 1] = new Uint8Array(last.buffer, last.byteOffset, last.length + part.length);
    else runs.push(part);
  }
  return runs;
}

/** Shared memory goes to a thread as it is; other parts are gathered into one that is handed over. */
function forThread(parts: readonly Uint8Array[]): { parts: readonly Uint8Array[]; own: ArrayBuffer[] } {
  if (parts.every((part) => part.buffer instanceof SharedArrayBuffer))
    return { parts: joined(parts), own: [] };
  const gathered = new Uint8Array(parts.reduce((sum, part) => sum + part.length, 0));
  let at = 0;
  for (const part of parts) {
    gathered.set(part, at);
    at += part.length;
  }
  return { parts: [gathered], own: [gathered.buffer] };
}

let threaded: Press | null = null;
const forget = (): void => {
  threaded = null;
};

/** The press of this process. */
export function thePress(): Press {
  if (!existsSync(WORKER_FILE)) return inlinePress;
  threaded ??= new ThreadedPress(WORKER_FILE);
  return threaded;
}
