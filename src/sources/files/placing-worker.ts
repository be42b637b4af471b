import { parentPort } from "node:worker_threads";
import { type Batch, placeAll } from "./placing-batch";

/** A thread that puts whole files in place, batch after batch. The memory of a batch goes back with the answer. */
parentPort!.on("message", (batch: Batch & { readonly id: number }) => {
  try {
    const placed = placeAll(batch);
    const memory = batch.content.buffer as ArrayBuffer;
    parentPort!.postMessage({ id: batch.id, placed, memory }, [memory]);
  } catch (error) {
    parentPort!.postMessage({ id: batch.id, error });
  }
});
