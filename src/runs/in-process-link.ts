import { setTimeout as pause } from "node:timers/promises";
import type { ConsoleLink } from "@/agent/link";
import type { Services } from "@/server/base/services";
import {
  type Executor,
  endByAgent,
  heartbeat,
  locateForRestore,
  nextJob,
  readPackForRestore,
  writeLog,
} from "./agent-desk";
import { chunksKnown, takePack, takePoint } from "./storing";

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
    putPack: async (runId, packId, holds, parts, pacer) => {
      const content = () =>
        pacer?.limited
          ? pacer.slices(parts)
          : (async function* () {
              yield* parts;
            })();
      while (!(await takePack(services, executor, runId, Buffer.from(packId, "hex"), holds, content())));
    },
    // in the console's own process every way is its own
    waysToPut: async () => [],
    landed: async () => false,
    wayToRead: async (runId, depotId, packId) => ({
      size: (await readPackForRestore(services, executor, runId, depotId, packId, 0, 0)).size,
      way: null,
    }),
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
