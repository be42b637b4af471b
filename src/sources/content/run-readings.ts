import { WindowMemory } from "@/store/cutting/windows";
import { Identifier } from "@/store/seal/identity";
import { openFile } from "../machine/open-file";
import type { OpenFile } from "../reader";
import { AnswerBuilder, type ContentAnswer, type ContentJob } from "./batch";
import { ContentCutter } from "./cutter";

/** What is read for one run. */
class RunReading {
  private readonly places: string[] = [];
  private readonly windows: number[] = [];
  private answer = new AnswerBuilder();
  private readonly cutter: ContentCutter;
  private file: OpenFile | null = null;

  constructor(memory: WebAssembly.Memory, key: Buffer) {
    this.cutter = new ContentCutter(new WindowMemory(memory), new Identifier(key), (...chunk) =>
      this.answer.chunk(...chunk),
    );
  }

  /** Reads until a window is full, or there is nothing more to read. */
  read(places: string, windows: readonly number[]): ContentAnswer {
    this.windows.push(...windows);
    this.places.push(...places.split("\0").slice(0, -1));
    this.places.reverse();
    let starved = false;
    while (this.file || this.places.length) {
      if (this.readOn()) continue;
      const next = this.windows.shift();
      starved = next === undefined;
      if (starved) break;
      const left = this.cutter.moveTo(next!);
      if (left < 0) continue;
      this.answer.left.push(left);
      break;
    }
    this.places.reverse();
    const answer = this.answer.answer(starved);
    this.answer = new AnswerBuilder();
    return answer;
  }

  /** The file at hand, or the next one: true when it is done, false when another window is wanted. */
  private readOn(): boolean {
    try {
      if (!this.file) {
        this.file = openFile(this.places.pop()!, (error) => error);
        this.cutter.begin(this.file);
      }
      const facts = this.cutter.goOn();
      if (!facts) return false;
      this.close();
      this.answer.done(facts);
    } catch (error) {
      const { code, message } = error as NodeJS.ErrnoException;
      this.close();
      if (!code) throw error;
      this.answer.failed({ code, message });
    }
    return true;
  }

  close(): void {
    this.cutter.giveUp();
    this.file?.close();
    this.file = null;
  }
}

const NOTHING = new AnswerBuilder().answer(false);

/** What the thread that reads does with each job: it reads files into the windows of runs, finds their chunks and names them. */
export class RunReadings {
  private readonly runs = new Map<number, RunReading>();

  answer(job: ContentJob): ContentAnswer {
    if ("read" in job) return this.runs.get(job.read)!.read(job.places, job.windows);
    if ("begin" in job) this.runs.set(job.begin, new RunReading(job.memory, Buffer.from(job.key)));
    else {
      this.runs.get(job.end)?.close();
      this.runs.delete(job.end);
    }
    return NOTHING;
  }
}
