import { join } from "node:path";
import { makeServices } from "@/server/base/services";
import { readSettings } from "@/server/base/settings";
import { startRunner } from "./runner";
import { trailTarget } from "./trail-sending";

/** The runner as a program. `DEEPKEEP_QUEUE_URL` reaches the queue's own tables. */
const settings = readSettings();
const services = makeServices(settings, undefined, "runner");
const queueUrl = process.env.DEEPKEEP_QUEUE_URL;
if (!queueUrl) throw new Error("DEEPKEEP_QUEUE_URL is not set: it reaches the queue of jobs");

const report = (error: unknown) => console.error(error);
const trailTo = trailTarget(process.env.DEEPKEEP_TRAIL_TO);
const runner = await startRunner(services, queueUrl, join(settings.home, "drills"), trailTo, report);
console.log("The runner ticks.");
for (const signal of ["SIGINT", "SIGTERM"] as const) {
  process.once(signal, async () => {
    await runner.stop().catch(report);
    process.exit(0);
  });
}
