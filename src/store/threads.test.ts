import { writeFileSync } from "node:fs";
import { join } from "node:path";
import { describe, expect, it } from "vitest";
import { CodedError } from "@/core/codes";
import { freshFolder } from "../../tests/depot";
import { Threads } from "./threads";

interface Job {
  readonly say?: string;
  readonly afterMs?: number;
  readonly failWith?: string | null;
  readonly die?: boolean;
}

/** A program that speaks what `answerJobs` speaks, in plain JavaScript: sources are not built where unit tests run. */
function program(): string {
  const file = join(freshFolder("threads"), "program.mjs");
  writeFileSync(
    file,
    `import { parentPort, threadId } from "node:worker_threads";
    parentPort.on("message", ({ id, job }) => {
      if (job.die) throw new Error("out of memory");
      if (job.failWith !== undefined)
        return parentPort.postMessage({ id, failure: { code: job.failWith, message: "the reason" } });
      setTimeout(() => parentPort.postMessage({ id, answer: { said: job.say, by: threadId } }), job.afterMs ?? 0);
    });`,
  );
  return file;
}

describe("threads", () => {
  const begin = (broken = () => {}) =>
    new Threads<Job, { said: string; by: number }>(program(), 2, { maxOldGenerationSizeMb: 32 }, broken);

  it("give each who asked their own answer, whichever comes first", async () => {
    const threads = begin();
    const asked = [40, 5, 20, 0].map((afterMs, i) => threads.ask({ say: `answer ${i}`, afterMs }));
    expect((await Promise.all(asked)).map(({ said }) => said)).toEqual([
      "answer 0",
      "answer 1",
      "answer 2",
      "answer 3",
    ]);
  });

  it("share the work, unless one of them is asked for", async () => {
    const threads = begin();
    const shared = await Promise.all([threads.ask({ afterMs: 20 }), threads.ask({ afterMs: 20 })]);
    expect(new Set(shared.map(({ by }) => by)).size).toBe(2);
    const { idlest } = threads;
    const own = await Promise.all([threads.ask({}, [], idlest), threads.ask({}, [], idlest)]);
    expect(new Set(own.map(({ by }) => by)).size).toBe(1);
  });

  it("fail with the code that the job failed with, and go on", async () => {
    const threads = begin();
    const failure = await threads.ask({ failWith: "store.damaged" }).catch((error: unknown) => error);
    expect(failure).toBeInstanceOf(CodedError);
    expect(failure).toMatchObject({ code: "store.damaged", message: "the reason" });
    await expect(threads.ask({ failWith: null })).rejects.toThrow(/^the reason$/);
    expect((await threads.ask({ say: "still here" })).said).toBe("still here");
  });

  it("fail all that waits when one of them ends, and say so", async () => {
    let told = 0;
    const threads = begin(() => {
      told += 1;
    });
    const waiting = [threads.ask({ afterMs: 60 }), threads.ask({ die: true })];
    const heard = await Promise.all(waiting.map((one) => one.catch((error: Error) => error.message)));
    expect(heard).toEqual(["out of memory", "out of memory"]);
    // what the other one would have answered is heard by nobody
    await new Promise((next) => setTimeout(next, 120));
    expect(told).toBe(1);
  });
});
