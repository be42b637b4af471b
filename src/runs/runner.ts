import { type Runner, run } from "graphile-worker";
import type { Services } from "@/server/services";
import { lookAtAll } from "./mail-tenant";
import { NetworkRuns } from "./network-runs";
import { applyRetention, purgeAll } from "./retention";
import { takeUpLapsed, tickSchedules } from "./tick";

const TICK_MS = 2000;

/** Starts the runner: schedules, leases, and the jobs of the queue. `queueUrl` reaches the queue's own tables. */
export async function startRunner(
  services: Services,
  queueUrl: string,
  report: (error: unknown) => void,
): Promise<{ stop(): Promise<void> }> {
  const queue: Runner = await run({
    connectionString: queueUrl,
    concurrency: 2,
    noHandleSignals: true,
    crontab: "17 * * * * purge ?jobKey=purge\n41 * * * * look ?jobKey=look",
    taskList: {
      retention: async (payload) => {
        await applyRetention(services, (payload as { sourceId: string }).sourceId);
      },
      purge: async () => {
        await purgeAll(services);
      },
      look: async () => {
        await lookAtAll(services);
      },
    },
  });
  const network = new NetworkRuns(services);
  let stopped = false;
  let ticking: Promise<void> = Promise.resolve();
  const tick = async () => {
    try {
      await takeUpLapsed(services);
      await tickSchedules(services);
      await network.start();
    } catch (error) {
      report(error);
    }
  };
  const timer = setInterval(() => {
    if (!stopped) ticking = ticking.then(tick);
  }, TICK_MS);
  return {
    stop: async () => {
      stopped = true;
      clearInterval(timer);
      await ticking;
      await queue.stop();
    },
  };
}
