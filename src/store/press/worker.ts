import { PackMemory } from "../packs/pack-memory";
import { gcm, nodeGcm } from "../seal/gcm";
import { answerJobs } from "../write/threads";
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
  | { readonly press: Omit<BlockJob, "memory">; readonly memory: SharedArrayBuffer }
  | { readonly open: SealedBlock; readonly out: Uint8Array; readonly names: BlockNames };

/** Of a block that was opened, nothing is sent but the numbers of its chunks that are not what they are named. */
export type PressAnswer = PressedBlock | readonly number[];

const compressor = compressorOf(false);
const scratch = makeScratch();
const passed = gcm === nodeGcm ? freeEarly() : () => {};
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
  const memory = new PackMemory(job.memory);
  const block = await pressBlock({ ...job.press, memory }, compressor, scratch);
  passed(block.sealedLength);
  return { answer: block, own: typeof block.lies === "number" ? [] : [block.lies.buffer as ArrayBuffer] };
});
