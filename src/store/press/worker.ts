import { parentPort } from "node:worker_threads";
import { CodedError } from "@/core/codes";
import { type BlockJob, makeScratch, openBlock, pressBlock, type SealedBlock } from "./block";
import { compressorOf } from "./compressor";

/** What a thread is asked, with the memory that it works into: a block to be pressed, or one to be opened. */
export interface ThreadJob {
  readonly id: number;
  readonly press?: BlockJob;
  readonly open?: SealedBlock;
  readonly out: Uint8Array;
}

/**
 * A thread that compresses and seals blocks, and opens them, one after another. Content comes and goes in shared memory,
 * uncopied.
 */
const compressor = compressorOf(false);
const scratch = makeScratch();
const bufferOf = (bytes: Uint8Array): Buffer =>
  Buffer.from(bytes.buffer as ArrayBuffer, bytes.byteOffset, bytes.byteLength);

async function pressed(job: BlockJob, out: Uint8Array) {
  const block = await pressBlock(job, compressor, scratch, out);
  return block.sealed.buffer === out.buffer
    ? { answer: { block: { ...block, sealed: block.sealed.length } }, own: [] }
    : { answer: { block }, own: [block.sealed.buffer as ArrayBuffer] };
}

parentPort!.on("message", async ({ id, press, open, out }: ThreadJob) => {
  try {
    if (open) {
      await openBlock(open, compressor, bufferOf(out));
      parentPort!.postMessage({ id });
    } else {
      const { answer, own } = await pressed(press!, out);
      parentPort!.postMessage({ id, ...answer }, own);
    }
  } catch (error) {
    // of an error that is sent, nothing is left but its words
    const code = error instanceof CodedError ? error.code : null;
    parentPort!.postMessage({ id, failure: { code, message: (error as Error).message } });
  }
});
