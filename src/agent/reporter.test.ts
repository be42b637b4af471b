import { afterEach, describe, expect, it } from "vitest";
import type { HeartbeatAnswer, LogReport, ProgressReport } from "@/core/protocol/agent";
import { runCommand } from "./command";
import { type ConsoleLink, Superseded } from "./link";
import { Pacer, pacedBody } from "./pacer";
import { RunReporter } from "./reporter";

/** A console that hears what a run tells, and answers as the test says. */
class Console {
  readonly beats: ProgressReport[] = [];
  readonly sent: LogReport[][] = [];
  answer: HeartbeatAnswer = { stop: false, why: "person", bytesPerSecond: null };
  fails: Error | null = null;
  readonly link = {
    heartbeat: async (_runId: string, report: ProgressReport) => {
      if (this.fails) throw this.fails;
      this.beats.push(report);
      return this.answer;
    },
    log: async (_runId: string, lines: readonly LogReport[]) => {
      this.sent.push([...lines]);
    },
  } as unknown as ConsoleLink;
  get lines(): LogReport[] {
    return this.sent.flat();
  }
}

const open: RunReporter[] = [];
afterEach(() => {
  for (const reporter of open.splice(0)) reporter.close();
});
function begin() {
  const console_ = new Console();
  const reporter = new RunReporter(console_.link, "run-1", 3);
  open.push(reporter);
  return { console_, reporter };
}

describe("a run tells its console", () => {
  it("how far it is, of how much, and in which attempt", async () => {
    const { console_, reporter } = begin();
    reporter.expect(40, 4000);
    reporter.stored(() => 700);
    reporter.progress.items = 10;
    reporter.progress.bytes = 1000;
    await reporter.beat();
    expect(console_.beats[0]).toMatchObject({
      attempt: 3,
      items: 10,
      bytes: 1000,
      totalItems: 40,
      totalBytes: 4000,
      stored: 700,
    });
    expect(console_.beats[0]!.rate).toBeGreaterThan(0);
  });

  it("its log in batches, and the rest at the end, in order", async () => {
    const { console_, reporter } = begin();
    for (let i = 0; i < 1203; i += 1) reporter.log("info", null, `/letter ${i}`, "restored");
    await reporter.flush();
    expect(console_.sent.map((batch) => batch.length)).toEqual([500, 500, 203]);
    expect(console_.lines.map(({ path }) => path)).toEqual(
      Array.from({ length: 1203 }, (_, i) => `/letter ${i}`),
    );
  });

  it("of a code that comes without end two thousand times, and then how often more", async () => {
    const { console_, reporter } = begin();
    for (let i = 0; i < 2345; i += 1) reporter.log("caution", "file.no-permission", `/${i}`, "refused");
    reporter.log("caution", "file.changed-while-read", "/other", "it was written to");
    await reporter.flush();
    const ofCode = console_.lines.filter(({ code }) => code === "file.no-permission");
    expect(ofCode).toHaveLength(2001);
    expect(ofCode.at(-1)).toMatchObject({ path: null, message: "and 345 more of the same" });
    expect(console_.lines.some(({ path }) => path === "/other")).toBe(true);
    await reporter.flush();
    expect(console_.lines.filter(({ message }) => message.includes("more of the same"))).toHaveLength(1);
  });

  it("no line longer than the console takes", async () => {
    const { console_, reporter } = begin();
    reporter.log("info", null, null, "x".repeat(5000));
    await reporter.flush();
    expect(console_.lines[0]!.message).toHaveLength(2000);
  });
});

describe("a console tells a run", () => {
  it("to stop, and who wants it", async () => {
    const { console_, reporter } = begin();
    console_.answer = { stop: true, why: "window", bytesPerSecond: null };
    await reporter.beat();
    expect(reporter.signal.aborted).toBe(true);
    expect([reporter.stopped, reporter.why]).toEqual([true, "window"]);
    // who asked first stays the reason
    console_.answer = { stop: true, why: "person", bytesPerSecond: null };
    await reporter.beat();
    expect(reporter.why).toBe("window");
  });

  it("how fast it may send", async () => {
    const { console_, reporter } = begin();
    expect(reporter.pacer.limited).toBe(false);
    console_.answer = { stop: false, why: "person", bytesPerSecond: 65_536 };
    await reporter.beat();
    expect(reporter.pacer.limited).toBe(true);
    console_.answer = { stop: false, why: "person", bytesPerSecond: null };
    await reporter.beat();
    expect(reporter.pacer.limited).toBe(false);
  });

  it("that the run is another's now, which ends it without a word; a cut line does not", async () => {
    const { console_, reporter } = begin();
    console_.fails = new Error("the line is cut");
    await reporter.beat();
    expect(reporter.signal.aborted).toBe(false);
    console_.fails = new Superseded();
    await reporter.beat();
    expect(reporter.signal.reason).toBeInstanceOf(Superseded);
    expect(reporter.stopped).toBe(false);
  });

  it("does what is to be done before closing once, however often it closes", async () => {
    const { reporter } = begin();
    let done = 0;
    reporter.beforeClosing = async () => {
      done += 1;
    };
    await Promise.all([reporter.closeOnce(), reporter.closeOnce()]);
    await reporter.closeOnce();
    expect(done).toBe(1);
  });
});

describe("a command around a run", () => {
  const about = { moment: "before", sourceName: "quill-srv-01 files", runId: "run-1" } as const;
  const command = (line: string, failing: "fail" | "caution" | "nothing" = "fail", seconds = 20) => ({
    line,
    failing,
    seconds,
  });
  async function run(line: string, failing?: "fail" | "caution" | "nothing", seconds?: number) {
    const { console_, reporter } = begin();
    const well = await runCommand(command(line, failing, seconds), about, reporter, true).catch(
      (error: Error) => error,
    );
    await reporter.flush();
    return { well, lines: console_.lines.map(({ message }) => message), log: console_.lines };
  }

  it("has its output in the log, of both ways out, and knows what it belongs to", async () => {
    const { well, lines } = await run(
      'echo "$DEEPKEEP_MOMENT $DEEPKEEP_SOURCE $DEEPKEEP_RUN"; echo "größer" >&2; printf "no end"',
    );
    expect(well).toBe(true);
    expect(lines.sort()).toEqual(["$ before quill-srv-01 files run-1", "$ größer", "$ no end"].sort());
  });

  it("does not break a letter that comes in two parts, nor mix two lines", async () => {
    const { lines } = await run(
      "printf 'gr\\303'; printf 'on the other ' >&2; sleep 0.2; printf '\\266\\303\\237er\\n'; printf 'way\\n' >&2",
    );
    expect(lines.sort()).toEqual(["$ größer", "$ on the other way"].sort());
  });

  it("says no more than two hundred lines", async () => {
    const { lines } = await run("seq 1 5000");
    expect(lines).toHaveLength(201);
    expect(lines.at(-1)).toContain("left out");
  });

  it.each([
    ["exit 3", "it ended with 3"],
    ["kill -9 $$", "it was ended by SIGKILL"],
    ["no-such-program-here", "it ended with 127"],
  ])("that ends with “%s” fails the run, and says how", async (line, words) => {
    const { well } = await run(line);
    expect(well).toMatchObject({
      code: "command.failed",
      message: expect.stringContaining(`the command before the run: ${words}`),
    });
  });

  it("is ended with all that it started when its time is over", async () => {
    const began = Date.now();
    const { well } = await run("sleep 30 & sleep 30", "fail", 1);
    expect(well).toMatchObject({ message: expect.stringMatching(/did not end within 1 second$/) });
    expect(Date.now() - began).toBeLessThan(15_000);
  });

  it("is a caution or nothing where its policy says so", async () => {
    const caution = await run("exit 1", "caution");
    expect(caution.well).toBe(false);
    expect(caution.log.at(-1)).toMatchObject({ level: "caution", code: "command.failed" });
    const nothing = await run("exit 1", "nothing");
    expect(nothing.well).toBe(true);
    expect(nothing.log.at(-1)).toMatchObject({ level: "info" });
  });

  it("does not run on a machine whose agent takes none", async () => {
    const { reporter } = begin();
    await expect(runCommand(command("echo never"), about, reporter, false)).rejects.toMatchObject({
      code: "command.failed",
      message: expect.stringContaining("runs no commands"),
    });
  });
});

describe("a pacer", () => {
  const never = new AbortController().signal;

  it("lets everything through at once where there is no rate", async () => {
    const pacer = new Pacer(never);
    await pacer.take(1e12);
    expect(pacedBody([Buffer.from("abc")], pacer).headers).toEqual({});
  });

  it("sends the same bytes in slices, and says their length beforehand", async () => {
    const pacer = new Pacer(never);
    pacer.set(1e9);
    const parts = [Buffer.alloc(40_000, 1), Buffer.alloc(0), Buffer.alloc(5, 2)];
    const slices: Buffer[] = [];
    for await (const slice of pacer.slices(parts)) slices.push(Buffer.from(slice));
    expect(Buffer.concat(slices)).toEqual(Buffer.concat(parts));
    expect(slices.every((slice) => slice.length <= 16_384)).toBe(true);
    const { body, headers } = pacedBody(parts, pacer);
    expect(headers).toEqual({ "content-length": "40005" });
    expect((await new Response(body).arrayBuffer()).byteLength).toBe(40_005);
  });

  it("goes on by the new rate when that changes while somebody waits", async () => {
    const pacer = new Pacer(never);
    pacer.set(1);
    await pacer.take(1_000_000);
    let through = false;
    const waiting = pacer.take(1).then(() => {
      through = true;
    });
    await new Promise((next) => setTimeout(next, 20));
    expect(through).toBe(false);
    pacer.set(null);
    await waiting;
    expect(through).toBe(true);
  });

  it("ends waiting when the run is stopped, with its reason", async () => {
    const abort = new AbortController();
    const pacer = new Pacer(abort.signal);
    pacer.set(1);
    await pacer.take(1_000_000);
    const waiting = pacer.take(1);
    abort.abort(new Error("stopped"));
    await expect(waiting).rejects.toThrow("stopped");
  });
});
