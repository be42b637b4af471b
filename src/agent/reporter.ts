import type { Code } from "@/core/codes";
import type { LogReport } from "@/core/protocol/agent";
import { RateHistory } from "@/core/units/rates";
import { type ConsoleLink, Superseded } from "./link";
import { Pacer } from "./pacer";

const BEAT_MS = 1000;
const LOG_MOST = 500;
/** Past this many lines of one code only their number is told, so that a broken disk does not write a million lines. */
const LINES_OF_A_CODE = 2000;

/** Tells the console of a run: progress every second, the log in batches; hears there whether to stop. */
export class RunReporter {
  readonly progress: { items: number; bytes: number; unread?: number } = { items: 0, bytes: 0 };
  private readonly abort = new AbortController();
  readonly signal = this.abort.signal;
  /** The rate at which the run sends. */
  readonly pacer = new Pacer(this.signal);
  private lines: LogReport[] = [];
  private readonly perCode = new Map<string, number>();
  private sending: Promise<void> = Promise.resolve();
  private expected: { totalItems?: number; totalBytes?: number } = {};
  private storedBytes = () => 0;
  private lastBytes = 0;
  private lastRead = 0;
  private lastBeat = performance.now();
  private rate = 0;
  private readonly history = new RateHistory(BEAT_MS / 1000);
  private readonly timer: NodeJS.Timeout;
  stopped = false;
  /** Commands around the run that failed without failing it. */
  commandCautions = 0;
  /** What is to be done when all is stored, before the run closes. */
  beforeClosing: () => Promise<void> = async () => {};
  /** Who or what stopped it. */
  why: "person" | "window" = "person";

  constructor(
    private readonly link: ConsoleLink,
    private readonly runId: string,
    private readonly attempt: number,
  ) {
    this.timer = setInterval(() => void this.beat(), BEAT_MS);
  }

  /** What the run will pass, as far as one knows. */
  expect(totalItems: number, totalBytes: number): void {
    this.expected = { totalItems, totalBytes };
  }

  stored(bytes: () => number): void {
    this.storedBytes = bytes;
  }

  log(level: LogReport["level"], code: Code | null, path: string | null, message: string): void {
    const count = (this.perCode.get(code ?? "") ?? 0) + 1;
    this.perCode.set(code ?? "", count);
    if (code && count > LINES_OF_A_CODE) return;
    this.lines.push({ level, code, path, message: message.slice(0, 2000) });
    if (this.lines.length >= LOG_MOST) void this.sendLog();
  }

  private sendLog(): Promise<void> {
    const lines = this.lines.splice(0);
    if (lines.length === 0) return this.sending;
    this.sending = this.sending.then(() => this.link.log(this.runId, lines)).catch(this.failed);
    return this.sending;
  }

  private readonly failed = (error: unknown): void => {
    // what matters fails where it is done; a lost run must not go on
    if (error instanceof Superseded) this.abort.abort(error);
  };

  private beating = false;
  /** Reports now; hears what the console says of rate and stopping. */
  async beat(): Promise<void> {
    if (this.beating) return;
    this.beating = true;
    try {
      const now = performance.now();
      const seconds = (now - this.lastBeat) / 1000;
      const passed = (this.progress.bytes - this.lastBytes) / seconds;
      const read = this.progress.bytes - (this.progress.unread ?? 0);
      this.history.add(read - this.lastRead, seconds);
      this.lastRead = read;
      this.rate = this.rate === 0 ? passed : this.rate * 0.6 + passed * 0.4;
      this.lastBytes = this.progress.bytes;
      this.lastBeat = now;
      const answer = await this.link.heartbeat(this.runId, {
        attempt: this.attempt,
        ...this.progress,
        ...this.expected,
        rate: Math.max(0, Math.round(this.rate)),
        stored: this.storedBytes(),
        rates: this.history.rates,
      });
      this.pacer.set(answer.bytesPerSecond);
      if (answer.stop && !this.signal.aborted) {
        this.stopped = true;
        this.why = answer.why;
        this.abort.abort(new Error("stopped"));
      }
      await this.sendLog();
    } catch (error) {
      this.failed(error);
    } finally {
      this.beating = false;
    }
  }

  /** Sends the rest of the log. */
  async flush(): Promise<void> {
    for (const [code, count] of this.perCode) {
      if (code && count > LINES_OF_A_CODE) {
        this.lines.push({
          level: "caution",
          code,
          path: null,
          message: `and ${count - LINES_OF_A_CODE} more of the same`,
        });
        this.perCode.set(code, 0);
      }
    }
    await this.sendLog();
  }

  /** Does what is to be done before the run closes, once. */
  async closeOnce(): Promise<void> {
    const work = this.beforeClosing;
    this.beforeClosing = async () => {};
    await work();
  }

  close(): void {
    clearInterval(this.timer);
  }
}
