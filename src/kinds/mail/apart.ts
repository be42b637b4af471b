import { existsSync } from "node:fs";
import { join } from "node:path";
import { CodedError } from "@/core/codes";
import type { DavKind } from "./dav-kinds";
import { openEntry } from "./dav-open";
import { attachmentOf, openMessage } from "./message";

/** What is parsed apart from the thread that answers requests: messages come from anybody, and may take long. */
export type MessageJob =
  | { readonly kind: "open"; readonly bytes: Uint8Array; readonly size: number }
  | { readonly kind: "entry"; readonly bytes: Uint8Array; readonly of: DavKind; readonly zone: string }
  | { readonly kind: "attachment"; readonly bytes: Uint8Array; readonly number: number };
export type MessageAnswer = { readonly result: unknown } | { readonly refused: string };

const LONGEST_MS = 10_000;
const MEMORY_MB = 768;
/** Beside the built programs; without them, as in unit tests, messages are parsed here. */
const PROGRAM = join(/*turbopackIgnore: true*/ process.cwd(), "dist/message-worker.mjs");
// asked of Node itself, so that the bundler of the web does not take the program for a part of it
const { Worker: Thread } = process.getBuiltinModule("node:worker_threads");

type Result<J extends MessageJob> = Awaited<
  ReturnType<
    J extends { kind: "open" }
      ? typeof openMessage
      : J extends { kind: "entry" }
        ? typeof openEntry
        : typeof attachmentOf
  >
>;

/** Does a job in a thread of its own, for ten seconds at most. Throws `file.unreadable`. */
export async function parseApart<J extends MessageJob>(
  job: J,
  program = PROGRAM,
  longestMs = LONGEST_MS,
): Promise<Result<J>> {
  if (!existsSync(/*turbopackIgnore: true*/ program)) return (await doMessageJob(job)) as Result<J>;
  const worker = new Thread(program, {
    workerData: job,
    resourceLimits: { maxOldGenerationSizeMb: MEMORY_MB },
  });
  let timer: NodeJS.Timeout | undefined;
  try {
    const answer = await new Promise<MessageAnswer>((resolve) => {
      timer = setTimeout(
        () => resolve({ refused: `parsing the message took longer than ${longestMs / 1000} s` }),
        longestMs,
      );
      worker.once("message", resolve);
      worker.once("error", (error) => resolve({ refused: `the message cannot be parsed: ${error.message}` }));
    });
    if ("refused" in answer) throw new CodedError("file.unreadable", answer.refused);
    return answer.result as Result<J>;
  } finally {
    clearTimeout(timer);
    await worker.terminate();
  }
}

/** Does a job in this thread. */
export const doMessageJob = async (job: MessageJob) => {
  const bytes = Buffer.from(job.bytes.buffer, job.bytes.byteOffset, job.bytes.byteLength);
  if (job.kind === "entry") return openEntry(bytes, job.of, job.zone);
  return job.kind === "open" ? openMessage(bytes, job.size) : attachmentOf(bytes, job.number);
};
