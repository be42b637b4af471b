import { type ChildProcess, spawn } from "node:child_process";
import { existsSync, openSync } from "node:fs";
import { setTimeout as pause } from "node:timers/promises";

/** One program that is kept running: started again when it ends, more slowly each time it ends at once. */
interface Kept {
  readonly name: string;
  child: ChildProcess | null;
  timer: NodeJS.Timeout | null;
}

const QUICK_MS = 10_000;

/**
 * A program that ends when whoever started it ends, also where that one was killed: the kernel tells it. Without util-linux
 * the program as it is.
 */
const endingWithParent = (command: string, args: readonly string[]): [string, string[]] =>
  existsSync("/usr/bin/setpriv")
    ? ["/usr/bin/setpriv", ["--pdeathsig", "TERM", "--", command, ...args]]
    : [command, [...args]];

/** Keeps programs running until told to end. Their output goes to files. */
export class Children {
  private readonly kept: Kept[] = [];
  private ending = false;

  keep(
    name: string,
    command: string,
    args: readonly string[],
    env: NodeJS.ProcessEnv,
    logFile: string,
  ): void {
    const one: Kept = { name, child: null, timer: null };
    this.kept.push(one);
    let wait = 500;
    const start = () => {
      one.timer = null;
      if (this.ending) return;
      const log = openSync(logFile, "a", 0o600);
      const started = performance.now();
      const child = spawn(...endingWithParent(command, args), { env, stdio: ["ignore", log, log] });
      one.child = child;
      child.once("exit", (code, signal) => {
        one.child = null;
        if (this.ending) return;
        wait = performance.now() - started > QUICK_MS ? 500 : Math.min(wait * 2, 15_000);
        console.log(
          `${name} ended (${signal ?? code}); started again in ${wait / 1000} s. Its log: ${logFile}`,
        );
        one.timer = setTimeout(start, wait);
      });
    };
    start();
  }

  /** Ends all of them: asks, and after a while insists. */
  async end(): Promise<void> {
    this.ending = true;
    for (const one of this.kept) {
      if (one.timer) clearTimeout(one.timer);
      one.child?.kill("SIGTERM");
    }
    const deadline = performance.now() + 3000;
    while (this.kept.some((one) => one.child) && performance.now() < deadline) await pause(50);
    for (const one of this.kept) one.child?.kill("SIGKILL");
    while (this.kept.some((one) => one.child)) await pause(20);
  }
}
