import { setTimeout as pause } from "node:timers/promises";
import type { ConsoleLink } from "@/agent/link";
import type { Services } from "@/server/services";
import {
  chunksKnown,
  type Executor,
  endByAgent,
  heartbeat,
  locateForRestore,
  nextJob,
  readPackForRestore,
  takePack,
  takePoint,
  writeLog,
} from "./agent-desk";

/**
 * The link of an executor in the same process: the same functions that the agents' routes call, at the services' clock.
 * The runner reads with it what the network reaches; the demo lives through its months with it.
 */
export function inProcessLink(services: Services, executor: Executor): ConsoleLink {
  return {
    hello: async () => {},
    work: async (kinds, signal) => {
      const job = await nextJob(services, executor, kinds);
      if (!job) await pause(0, undefined, { signal });
      return job;
    },
    heartbeat: (runId, report) => heartbeat(services, executor, runId, report),
    log: (runId, lines) => writeLog(services, executor, runId, lines),
    known: (runId, ids) =>
      chunksKnown(
        services,
        executor,
        runId,
        ids.map((id) => Buffer.from(id)),
      ),
    putPack: (runId, packId, chunkIds, parts) =>
      takePack(
        services,
        executor,
        runId,
        Buffer.from(packId, "hex"),
        chunkIds.map((id) => Buffer.from(id)),
        (async function* () {
          yield* parts;
        })(),
      ),
    putPoint: (runId, report) => takePoint(services, executor, runId, report),
    end: (runId, report) => endByAgent(services, executor, runId, report),
    locate: (runId, depotId, ids) =>
      locateForRestore(
        services,
        executor,
        runId,
        depotId,
        ids.map((id) => Buffer.from(id)),
      ),
    readPack: (runId, depotId, packId, offset, length) =>
      readPackForRestore(services, executor, runId, depotId, packId, offset, length),
  };
}
