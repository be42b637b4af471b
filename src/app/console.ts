import { RUNNER_BEAT_MS } from "@/server/access/unlocked";
import { shareLimits } from "@/server/api/limits";
import { Changes } from "@/server/base/changes";
import { makeServices, type Services } from "@/server/base/services";
import { readSettings } from "@/server/base/settings";

/** The one set of services of this web process. */
interface Console {
  readonly services: Services;
  readonly changes: Changes;
}

const kept = globalThis as typeof globalThis & { deepKeepConsole?: Console };

export function theConsole(): Console {
  if (!kept.deepKeepConsole) {
    const settings = readSettings();
    const services = makeServices(settings);
    kept.deepKeepConsole = { services, changes: new Changes(settings.databaseUrl) };
    const beat = async () => shareLimits(await services.lentKeys.beat());
    // what cannot be said now is said again soon
    const saying = () => void beat().catch((error) => console.error(error));
    saying();
    setInterval(saying, RUNNER_BEAT_MS).unref();
  }
  return kept.deepKeepConsole;
}

export const theServices = (): Services => theConsole().services;
