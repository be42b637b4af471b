import { EventEmitter } from "node:events";
import { setTimeout as pause } from "node:timers/promises";
import { makeWorkerUtils, type Runner, run, type Task, type WorkerEvents } from "graphile-worker";
import { JOBS, type JobHandlers, type JobName, type JobPayload } from "@/db/base/queue";
import { answers } from "@/db/base/scope";
import { countNights } from "@/db/runs/runs";
import { RUNNER_BEAT_MS } from "@/server/access/unlocked";
import { isDatabaseAway } from "@/server/base/problem";
import type { Services } from "@/server/base/services";
import { noteTodaysUsage } from "@/server/statements/usage";
import { askAllCarries, carry } from "./carry";
import { requestAllChecks, resumeChecks, runCheck } from "./check";
import { lookAtAll } from "./connections";
import { DrillRuns, requestDueDrills } from "./drills";
import { keepHouse } from "./housekeeping";
import { growLocks } from "./locks";
import { NetworkRuns } from "./network-runs";
import { sendNotices } from "./notices";
import { purgeAll } from "./purge";
import { keepQueue } from "./queue-upkeep";
import { applyRetention } from "./retention";
import { sendDueStatements } from "./statements";
import { endPassedBy, takeUpLapsed, tickFollowers, tickSchedules } from "./tick";
import { sendTrail, type TrailTarget } from "./trail-sending";

const TICK_MS = 2000;
const AFTER_FAILURE_MS = 5 * TICK_MS;

/**
 * Starts the runner: schedules, leases, and the jobs of the queue. `queueUrl` reaches the queue's own tables; what drills
 * restore lies in `drillFolder` meanwhile; the trail goes to `trailTo` as it grows.
 */
export async function startRunner(
  services: Services,
  queueUrl: string,
  drillFolder: string,
  trailTo: TrailTarget | null,
  report: (error: unknown) => void,
): Promise<{ stop(): Promise<void> }> {
  const handlers: JobHandlers = {
    retention: async ({ sourceId }) => {
      await applyRetention(services, sourceId);
    },
    locks: async ({ depotId, clientId }) => {
      await growLocks(services, depotId, clientId);
    },
    purge: async () => {
      await purgeAll(services, report);
    },
    checks: ({ depth }) => requestAllChecks(services, depth),
    check: ({ checkId }) => runCheck(services, checkId),
    carries: async () => {
      await askAllCarries(services);
    },
    carry: async (route) => {
      await carry(services, route);
    },
    // most of what was due an hour ago has ended; what ends later is added as it ends
    nights: async () => {
      const to = new Date(services.now().getTime() - 3_600_000);
      await services.db.withScope({ role: "system" }, (tx) => countNights(tx, to));
    },
    drills: async () => {
      await requestDueDrills(services);
    },
    usage: async () => {
      await noteTodaysUsage(services);
    },
    look: async () => {
      await lookAtAll(services);
    },
    housekeeping: () => keepHouse(services),
  };
  // before its first job: whoever looks for dead workers must not find one of this runner
  const events: WorkerEvents = new EventEmitter();
  events.on("worker:create", ({ worker }) => services.lentKeys.workers.add(worker.workerId));
  const queue: Runner = await whenThere(report, () =>
    run({
      connectionString: queueUrl,
      concurrency: 2,
      noHandleSignals: true,
      crontab: [
        "17 * * * * purge ?jobKey=purge",
        "41 * * * * look ?jobKey=look",
        "*/10 * * * * nights ?jobKey=nights",
        "53 * * * * carries ?jobKey=carries",
        // every day that all is there, every week that it opens, every month every byte
        '23 4 * * * checks ?id=daily {depth:"objects"}',
        '23 5 * * 6 checks ?id=weekly {depth:"trees"}',
        '23 6 1 * * checks ?id=monthly {depth:"bytes"}',
        // the last word of a day counts
        "37 5,11,17,22 * * * usage ?jobKey=usage",
        // by day, when few backups run
        "29 8-17 * * * drills ?jobKey=drills",
        "7 * * * * housekeeping ?jobKey=housekeeping",
      ].join("\n"),
      taskList: Object.fromEntries(
        (Object.keys(JOBS) as JobName[]).map((name) => [name, taskOf(services, handlers, name)]),
      ),
      events,
    }),
  );
  queue.promise.catch(report);
  const utils = await whenThere(report, () => makeWorkerUtils({ connectionString: queueUrl }));
  const beat = async () => {
    await services.lentKeys.beat();
    await keepQueue(services, utils);
  };
  await beat().catch(report);
  const beating = setInterval(() => void beat().catch(report), RUNNER_BEAT_MS);
  await resumeChecks(services).catch(report);
  const network = new NetworkRuns(services, report);
  const drills = new DrillRuns(services, drillFolder, report);
  let stopped = false;
  let ticking: Promise<void> = Promise.resolve();
  const tick = async () => {
    try {
      await takeUpLapsed(services);
      await endPassedBy(services);
      await tickSchedules(services);
      await tickFollowers(services);
      await network.start();
      await drills.start();
    } catch (error) {
      report(error);
    }
  };
  // a server that does not answer must hold up neither the schedules nor the other kinds of telling
  const tell = oneAtATime(async () => {
    await sendDueStatements(services, report).catch(report);
    await sendNotices(services);
  }, report);
  const sendOn = oneAtATime(async () => {
    if (trailTo) await sendTrail(services, trailTo);
  }, report);
  const timer = setInterval(() => {
    if (stopped) return;
    ticking = ticking.then(tick);
    tell.begin();
    sendOn.begin();
  }, TICK_MS);
  return {
    stop: async () => {
      stopped = true;
      network.stop();
      drills.stop();
      clearInterval(timer);
      clearInterval(beating);
      await ticking;
      await tell.ended();
      await sendOn.ended();
      await queue.stop();
      await utils.release();
    },
  };
}

/** Does what cannot be done while the database is away as soon as it is there. */
async function whenThere<T>(report: (error: unknown) => void, work: () => Promise<T>): Promise<T> {
  for (;;) {
    try {
      return await work();
    } catch (error) {
      if (!isDatabaseAway(error)) throw error;
      report(error);
      await pause(TICK_MS);
    }
  }
}

/** A job of the queue: what it is told is parsed. */
const taskOf =
  <Name extends JobName>(services: Services, handlers: JobHandlers, name: Name): Task =>
  async (payload) => {
    try {
      await handlers[name](JOBS[name].parse(payload ?? {}) as JobPayload<Name>);
    } catch (error) {
      // the queue notes a failure in the database, and ends the process where it cannot
      if (isDatabaseAway(error))
        await whenThere(
          () => {},
          () => services.db.withScope({ role: "system" }, answers),
        );
      throw error;
    }
  };

/** Work that is begun again and again, never twice at a time, and not at once where it failed. */
function oneAtATime(work: () => Promise<void>, report: (error: unknown) => void) {
  let going: Promise<void> | null = null;
  let notBefore = 0;
  return {
    begin: () => {
      if (performance.now() < notBefore) return;
      going ??= work()
        .catch((error) => {
          notBefore = performance.now() + AFTER_FAILURE_MS;
          report(error);
        })
        .finally(() => {
          going = null;
        });
    },
    ended: async () => {
      await going;
    },
  };
}
