import { parentPort } from "node:worker_threads";
import { type Batch, placeAll, toldShortly } from "./placing-batch";

/** A thread that puts whole files in place, batch after batch. */
parentPort!.on("message", ({ id, ...batch }: Batch & { readonly id: number }) => {
  try {
    parentPort!.postMessage({ id, told: toldShortly(placeAll(batch)) });
  } catch (error) {
    parentPort!.postMessage({ id, error });
  }
});
