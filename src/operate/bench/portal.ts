import { mkdirSync } from "node:fs";
import { join } from "node:path";
import { seedDemo } from "@/demo/seed";
import { readSettings } from "@/server/base/settings";
import { inConsole } from "./bench-console";
import { type Figure, figure, percentile, say } from "./ground";
import { invite, Load } from "./portal-load";

/**
 * The portal under load: 200 of a client's people browse what was given to them, each with the pauses of somebody who
 * reads, and 20 get things back at once, over and over. Over the demo's month, through the web as it runs.
 */
const BROWSING = Number(process.env.DEEPKEEP_BENCH_BROWSING ?? 200);
const RESTORING = Number(process.env.DEEPKEEP_BENCH_RESTORING ?? 20);
const SECONDS = 60;
const CLICK_LIMIT_MS = 1000;

export const benchPortal = (): Promise<Figure[]> =>
  inConsole({}, async (bench) => {
    mkdirSync(join(bench.home, "demo"), { recursive: true, mode: 0o711 });
    await seedDemo(readSettings({ ...process.env, DEEPKEEP_HOME: bench.home }), bench.home, null, say);
    const visitors = await invite(bench.services, BROWSING + RESTORING);
    const url = await bench.web();
    const load = new Load(url, SECONDS);
    await Promise.all([
      ...visitors.slice(0, BROWSING).map((visitor) => load.browse(visitor)),
      ...visitors.slice(BROWSING).map((visitor) => load.restore(visitor)),
    ]);
    const failed = [...load.failed.values()].reduce((sum, count) => sum + count, 0);
    say(
      `${BROWSING} browsing, ${RESTORING} restoring for ${SECONDS} s: ${load.clicks.length} clicks, median ${percentile(load.clicks, 0.5).toFixed(0)} ms; ${load.restores.length} downloads of ${(load.bytes / Math.max(1, load.restores.length) / 1e6).toFixed(1)} MB, median ${percentile(load.restores, 0.5).toFixed(0)} ms; ${failed} refused ${JSON.stringify([...load.failed])}`,
    );
    return [
      figure(
        "a click in the portal, 95th percentile",
        "ms",
        percentile(load.clicks, 0.95),
        "its limit",
        CLICK_LIMIT_MS,
        1,
      ),
      figure("requests that failed", "", failed, "all of them", load.clicks.length + load.restores.length, 0),
    ];
  });
