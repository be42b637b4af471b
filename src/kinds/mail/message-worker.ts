import { parentPort, workerData } from "node:worker_threads";
import { doMessageJob, type MessageAnswer, type MessageJob } from "./apart";

const say = (answer: MessageAnswer) => parentPort!.postMessage(answer);
doMessageJob(workerData as MessageJob).then(
  (result) => say({ result }),
  (error: Error) => say({ refused: error.message }),
);
