import { answerJobs } from "../threads";
import {
  type BlockJob,
  type BlockNames,
  makeScratch,
  misnamed,
  openBlock,
  type PressedBlock,
  pressBlock,
  type SealedBlock,
} from "./block";
import { compressorOf } from "./compressor";
import { freeEarly } from "./free-early";

/** What a thread is asked, with the shared memory that it works into: a block to be pressed, or one to be opened. */
export type PressJob =
  | { readonly press: BlockJob; readonly out: Uint8Array }
  | { readonly open: SealedBlock; readonly out: Uint8Array; readonly names: BlockNames };

/** A pressed block as it is sent: its sealed bytes, or how many of them are in the memory that was given. */
export type SentBlock = Omit<PressedBlock, "sealed"> & { readonly sealed: Uint8Array | number };

/** Of a block that was opened, nothing is sent but the numbers of its chunks that are not what they are named. */
export type PressAnswer = SentBlock | readonly number[];

const compressor = compressorOf(false);
const scratch = makeScratch();
const passed = freeEarly();
const bufferOf = (bytes: Uint8Array): Buffer =>
  Buffer.from(bytes.buffer as ArrayBuffer, bytes.byteOffset, bytes.byteLength);

/**
 * A thread that compresses and seals blocks, and opens them, one after another. Content comes and goes in shared memory,
 * uncopied.
 */
answerJobs<PressJob, PressAnswer>(async (job) => {
  if ("open" in job) {
    const content = await openBlock(job.open, compressor, bufferOf(job.out), scratch);
    passed(job.open.sealed.length);
    return { answer: misnamed(content, job.names) };
  }
  const block = await pressBlock(job.press, compressor, scratch, job.out);
  passed(block.sealed.length);
  return block.sealed.buffer === job.out.buffer
    ? { answer: { ...block, sealed: block.sealed.length } }
    : { answer: block, own: [block.sealed.buffer as ArrayBuffer] };
});
