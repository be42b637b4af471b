import { spawn } from "node:child_process";
import { CodedError } from "@/core/codes";
import type { Command } from "@/core/policy/conduct";
import { counted } from "@/core/units/duration";
import type { RunReporter } from "./reporter";

const LINES_MOST = 200;
const LINE_MOST = 500;

/** What a command is told of the run that it belongs to. */
export interface CommandAbout {
  readonly moment: "before" | "after";
  readonly sourceName: string;
  readonly runId: string;
}

/**
 * Runs a command of the clause Conduct in a shell of its own process group; its output goes into the run's log. Ends with
 * true when it went well, or when that does not matter. Throws `command.failed` where its failing fails the run.
 */
export async function runCommand(
  command: Command,
  about: CommandAbout,
  reporter: RunReporter,
  allowed: boolean,
): Promise<boolean> {
  const failing = allowed
    ? await execute(command, about, reporter)
    : "this machine runs no commands; its agent was started so";
  if (failing === null) return true;
  const words = `the command ${about.moment === "before" ? "before" : "after"} the run: ${failing}`;
  if (command.failing === "fail") throw new CodedError("command.failed", words);
  const mere = command.failing === "nothing";
  reporter.log(mere ? "info" : "caution", "command.failed", null, words);
  return mere;
}

function execute(command: Command, about: CommandAbout, reporter: RunReporter): Promise<string | null> {
  return new Promise((resolve) => {
    const child = spawn("/bin/sh", ["-c", command.line], {
      detached: true,
      stdio: ["ignore", "pipe", "pipe"],
      env: {
        ...process.env,
        DEEPKEEP_MOMENT: about.moment,
        DEEPKEEP_SOURCE: about.sourceName,
        DEEPKEEP_RUN: about.runId,
      },
    });
    let told = 0;
    const tell = (line: string) => {
      told += 1;
      if (told <= LINES_MOST) reporter.log("info", null, null, `$ ${line.slice(0, LINE_MOST)}`);
      else if (told === LINES_MOST + 1)
        reporter.log("info", null, null, "$ … and more, which is left out here.");
    };
    const rests = [child.stdout, child.stderr].map((stream) => {
      let rest = "";
      stream.setEncoding("utf8").on("data", (text: string) => {
        const lines = (rest + text).split("\n");
        rest = lines.pop()!.slice(0, LINE_MOST);
        for (const line of lines) tell(line);
      });
      return () => rest;
    });
    let ended: string | null = null;
    // the whole group: what it started must not go on behind the run
    const end = (why: string) => {
      ended ??= why;
      try {
        process.kill(-child.pid!, "SIGKILL");
      } catch {
        // it has ended by itself
      }
    };
    const timer = setTimeout(
      () => end(`it did not end within ${counted(command.seconds, "second")}`),
      command.seconds * 1000,
    );
    const stop = () => end("the run was stopped");
    reporter.signal.addEventListener("abort", stop, { once: true });
    const done = (why: string | null) => {
      clearTimeout(timer);
      reporter.signal.removeEventListener("abort", stop);
      for (const rest of rests) if (rest()) tell(rest());
      resolve(why);
    };
    child.on("error", (error) => done(error.message));
    child.on("close", (code, signal) =>
      done(
        ended ?? (code === 0 ? null : code === null ? `it was ended by ${signal}` : `it ended with ${code}`),
      ),
    );
  });
}
