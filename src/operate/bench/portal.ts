import { spawn } from "node:child_process";
import { mkdirSync, openSync } from "node:fs";
import { join } from "node:path";
import { setTimeout as pause } from "node:timers/promises";
import { migrate } from "@/db/migrate";
import { seedDemo } from "@/demo/seed";
import { makeServices } from "@/server/services";
import { readSettings } from "@/server/settings";
import { ensureMasterKey, freePort, startCluster, stopCluster } from "../cluster";
import { webProgram } from "../web-program";
import { type Figure, figure, inFolder, percentile, say } from "./ground";
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
  inFolder(async (folder) => {
    const home = join(folder, "console");
    mkdirSync(join(home, "log"), { recursive: true });
    mkdirSync(join(home, "demo"), { recursive: true, mode: 0o711 });
    ensureMasterKey(home);
    const access = await startCluster(home);
    const project = process.cwd();
    await migrate(access.owner, access.appPassword, join(project, "src/db/migrations"));
    const env = { ...process.env, DEEPKEEP_HOME: home };
    const settings = readSettings(env);
    await seedDemo(settings, home, say);
    const services = makeServices(settings);
    const port = await freePort();
    const log = openSync(join(home, "log/web.log"), "a");
    const web = spawn(process.execPath, webProgram(project), {
      env: { ...env, DEEPKEEP_PORT: String(port), NODE_ENV: "production", NEXT_TELEMETRY_DISABLED: "1" },
      stdio: ["ignore", log, log],
    });
    try {
      const url = `http://127.0.0.1:${port}`;
      const visitors = await invite(services, BROWSING + RESTORING);
      for (let tries = 0; tries < 300; tries += 1) {
        if (
          await fetch(`${url}/readyz`).then(
            (answer) => answer.ok,
            () => false,
          )
        )
          break;
        await pause(100);
      }
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
        figure(
          "requests that failed",
          "",
          failed,
          "all of them",
          load.clicks.length + load.restores.length,
          0,
        ),
      ];
    } finally {
      web.kill("SIGKILL");
      await services.db.end();
      await stopCluster(access, "immediate");
    }
  });
