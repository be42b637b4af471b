import { parentPort } from "node:worker_threads";
import { type BlockJob, makeScratch, pressBlock } from "./block";
import { compressorOf } from "./compressor";

/** What a thread is asked: a block, and the shared memory that it writes the sealed bytes into. */
export interface ThreadJob {
  readonly id: number;
  readonly job: BlockJob;
  readonly out: Uint8Array;
}

/** A thread that compresses and seals blocks, one after another. Content comes and goes in shared memory, uncopied. */
const compressor = compressorOf(false);
const scratch = makeScratch();

parentPort!.on("message", async ({ id, job, out }: ThreadJob) => {
  try {
    const block = await pressBlock(job, compressor, scratch, out);
    const fits = block.sealed.buffer === out.buffer;
    parentPort!.postMessage(
      { id, block: fits ? { ...block, sealed: block.sealed.length } : block },
      fits ? [] : [block.sealed.buffer as ArrayBuffer],
    );
  } catch (error) {
    parentPort!.postMessage({ id, error });
  }
});
