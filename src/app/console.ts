import { Changes } from "@/server/changes";
import { makeServices, type Services } from "@/server/services";
import { readSettings } from "@/server/settings";

/** The one set of services of this web process. */
interface Console {
  readonly services: Services;
  readonly changes: Changes;
}

const kept = globalThis as typeof globalThis & { deepKeepConsole?: Console };

export function theConsole(): Console {
  if (!kept.deepKeepConsole) {
    const settings = readSettings();
    kept.deepKeepConsole = { services: makeServices(settings), changes: new Changes(settings.databaseUrl) };
  }
  return kept.deepKeepConsole;
}

export const theServices = (): Services => theConsole().services;
