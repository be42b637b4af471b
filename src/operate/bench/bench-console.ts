import { spawn } from "node:child_process";
import { randomUUID } from "node:crypto";
import { mkdirSync, openSync, rmSync } from "node:fs";
import { join } from "node:path";
import { setTimeout as pause } from "node:timers/promises";
import { insertPerson } from "@/db/access/people";
import { migrate } from "@/db/base/migrate";
import { hashPassword } from "@/server/access/sign-in";
import { makeServices, type Services } from "@/server/base/services";
import { readSettings } from "@/server/base/settings";
import { ensureMasterKey, freePort, startCluster, stopCluster } from "../cluster";
import { webProgram } from "../web-program";
import { inFolder } from "./ground";

export const OWNER = { email: "ines@lanternfold.example", password: "lantern over the quay" };

/** A console in a folder of its own: database, services, and its web when it is asked for. */
export interface BenchConsole {
  readonly home: string;
  readonly services: Services;
  /** Access of the owner of the tables. */
  readonly owner: string;
  /** Starts the web and waits until it answers; returns its address. */
  web(): Promise<string>;
  /** A person who owns the console, with the password of `OWNER`. */
  createOwner(): Promise<void>;
}

export async function withConsole<T>(
  folder: string,
  config: Readonly<Record<string, string>>,
  work: (console: BenchConsole) => Promise<T>,
): Promise<T> {
  const home = join(folder, "console");
  mkdirSync(join(home, "log"), { recursive: true });
  ensureMasterKey(home);
  const access = await startCluster(home, config);
  const project = process.cwd();
  const env = { ...process.env, DEEPKEEP_HOME: home };
  const ends: (() => unknown)[] = [];
  try {
    await migrate(access.owner, access.appPassword, join(project, "src/db/migrations"));
    const services = makeServices(readSettings(env));
    ends.push(() => services.db.end());
    return await work({
      home,
      services,
      owner: access.owner,
      web: async () => {
        const port = await freePort();
        const log = openSync(join(home, "log/web.log"), "a");
        const web = spawn(process.execPath, webProgram(project), {
          env: {
            ...env,
            DEEPKEEP_PORT: String(port),
            NODE_ENV: "production",
            NEXT_TELEMETRY_DISABLED: "1",
          },
          stdio: ["ignore", log, log],
        });
        ends.push(() => web.kill("SIGKILL"));
        const url = `http://127.0.0.1:${port}`;
        for (let tries = 0; !(await fetch(`${url}/readyz`).catch(() => null))?.ok; tries += 1) {
          if (tries > 300) throw new Error("the web does not answer");
          await pause(200);
        }
        return url;
      },
      createOwner: async () => {
        const hash = await hashPassword(OWNER.password);
        await services.db.withScope({ role: "system" }, (tx) =>
          insertPerson(
            tx,
            {
              id: randomUUID(),
              email: OWNER.email,
              name: "Ines Marlow",
              role: "owner",
              clientId: null,
            },
            hash,
            services.now(),
          ),
        );
      },
    });
  } finally {
    for (const end of ends.reverse()) await end();
    await stopCluster(access, "immediate");
    // it need not lie in the folder
    rmSync(access.folder, { recursive: true, force: true });
  }
}

/** The same in a folder that is gone afterwards. */
export const inConsole = <T>(
  config: Readonly<Record<string, string>>,
  work: (console: BenchConsole) => Promise<T>,
): Promise<T> => inFolder((folder) => withConsole(folder, config, work));
