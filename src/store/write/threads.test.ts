import { spawnSync } from "node:child_process";
import { createRequire } from "node:module";
import { dirname, join, resolve } from "node:path";
import { fileURLToPath } from "node:url";
import { build } from "esbuild";
import { beforeAll, describe, expect, it } from "vitest";
import { CodedError } from "@/core/codes";
import { freshFolder } from "../../../tests/depot";
import { Threads } from "./threads";

interface Job {
  readonly say?: string;
  readonly afterMs?: number;
  readonly failWith?: string | null;
  readonly die?: boolean;
}

const koffi = createRequire(import.meta.url).resolve("koffi");

/** A program of its own, as the build makes them. */
async function program(name: string, contents: string): Promise<string> {
  const outfile = join(freshFolder("threads"), `${name}.mjs`);
  await build({
    stdin: { contents, resolveDir: dirname(fileURLToPath(import.meta.url)), loader: "ts" },
    outfile,
    bundle: true,
    platform: "node",
    format: "esm",
    target: "node20",
    alias: { koffi },
    external: [koffi],
    tsconfig: resolve("tsconfig.json"),
  });
  return outfile;
}

describe("threads", () => {
  let file = "";
  beforeAll(async () => {
    file = await program(
      "answers",
      `import { threadId } from "node:worker_threads";
      import { CodedError } from "@/core/codes";
      import { answerJobs } from "./threads";

      answerJobs(async ({ say, afterMs, failWith, die }) => {
        if (die) setImmediate(() => { throw new Error("out of memory"); });
        if (failWith !== undefined)
          throw Object.assign(failWith ? new CodedError(failWith) : new Error(), { message: "the reason" });
        await new Promise((next) => setTimeout(next, afterMs ?? 0));
        return { answer: { said: say, by: threadId } };
      });`,
    );
  });
  const begin = (broken = () => {}) =>
    new Threads<Job, { said: string; by: number }>(file, 2, { maxOldGenerationSizeMb: 32 }, broken);

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
    // nor does anybody wait who asks afterwards, whichever thread
    for (let i = 0; i < 4; i += 1) await expect(threads.ask({})).rejects.toThrow("out of memory");
  });
});

describe("a process", () => {
  const files: Record<"thread" | "process", string> = { thread: "", process: "" };
  beforeAll(async () => {
    files.thread = await program(
      "thread",
      `import { writeSync } from "node:fs";
      import { libraryGcm } from "../seal/gcm";
      import { answerJobs } from "./threads";

      const gcm = libraryGcm()!;
      const lock = { key: new Uint8Array(32), nonce: new Uint8Array(12), header: new Uint8Array() };
      const [text, sealed] = [new Uint8Array(16), new Uint8Array(32)];
      answerJobs((times) => {
        writeSync(1, "begun");
        for (let i = 0; i < times; i += 1) gcm.seal(lock, [text], sealed);
        writeSync(1, "ended");
        return { answer: times };
      });`,
    );
    files.process = await program(
      "process",
      `import { Threads } from "./threads";

      const [file, how, ms] = process.argv.slice(2);
      const threads = new Threads(file, 2, {}, () => {});
      const ask = () => threads.ask(2_000).then(ask);
      if (how === "at work") for (let i = 0; i < 6; i += 1) void ask();
      if (how === "of itself") setTimeout(() => {}, Number(ms));
      else setTimeout(() => process.exit(3), Number(ms));`,
    );
  });
  const ends = (how: string, ms: number) => {
    const ended = spawnSync(process.execPath, [files.process, files.thread, how, String(ms)], {
      encoding: "utf8",
    });
    const cut = ended.stdout.split("begun").length - ended.stdout.split("ended").length;
    return { status: ended.status, signal: ended.signal, said: ended.stderr, cut };
  };
  const moments = Array.from({ length: 16 }, (_, i) => i * 9);

  it.each([
    ["while its threads begin", "at rest", 3],
    ["while they call into a library, which none of them is cut off in", "at work", 3],
    ["of itself, with threads that nobody asked anything", "of itself", 0],
  ])("ends %s", (_, how, status) => {
    for (const ms of moments)
      expect(ends(how, ms), `after ${ms} ms`).toEqual({ status, signal: null, said: "", cut: 0 });
  });
});
