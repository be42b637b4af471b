import { setTimeout as pause } from "node:timers/promises";
import type { ConsoleLink } from "@/agent/link";
import type { Machine } from "@/db/machines";
import {
  chunksKnown,
  endByAgent,
  hearMachine,
  heartbeat,
  locateForRestore,
  nextJob,
  readPackForRestore,
  takePack,
  takePoint,
  writeLog,
} from "@/runs/agent-desk";
import type { Services } from "@/server/services";

/** An agent's link to a console in the same process: the same functions that the routes call, at the services' clock. */
export function inProcessLink(services: Services, machine: Machine): ConsoleLink {
  return {
    hello: (system, started) => hearMachine(services, machine, system, started),
    work: async (kinds, signal) => {
      const job = await nextJob(services, machine, kinds);
      if (!job) await pause(0, undefined, { signal });
      return job;
    },
    heartbeat: (runId, report) => heartbeat(services, machine, runId, report),
    log: (runId, lines) => writeLog(services, machine, runId, lines),
    known: (runId, ids) =>
      chunksKnown(
        services,
        machine,
        runId,
        ids.map((id) => Buffer.from(id)),
      ),
    putPack: (runId, packId, chunkIds, parts) =>
      takePack(
        services,
        machine,
        runId,
        Buffer.from(packId, "hex"),
        chunkIds.map((id) => Buffer.from(id)),
        (async function* () {
          yield* parts;
        })(),
      ),
    putPoint: (runId, report) => takePoint(services, machine, runId, report),
    end: (runId, report) => endByAgent(services, machine, runId, report),
    locate: (runId, depotId, ids) =>
      locateForRestore(
        services,
        machine,
        runId,
        depotId,
        ids.map((id) => Buffer.from(id)),
      ),
    readPack: (runId, depotId, packId, offset, length) =>
      readPackForRestore(services, machine, runId, depotId, packId, offset, length),
  };
}
