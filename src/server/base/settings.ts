import { execFileSync } from "node:child_process";
import { existsSync, readFileSync } from "node:fs";
import { join } from "node:path";
import { z } from "zod";

const settingsSchema = z.object({
  /** The data folder. */
  home: z.string(),
  databaseUrl: z.string(),
  masterKey: z.string().regex(/^[0-9a-f]{64}$/, "The master key has 64 hex digits."),
});
export type Settings = z.infer<typeof settingsSchema>;

const VAULT_WAIT_MS = 20_000;

/** Whether the master key is kept somewhere else than in the data folder. */
export const masterKeyElsewhere = (env: NodeJS.ProcessEnv): boolean =>
  Boolean(env.DEEPKEEP_MASTER_KEY || env.DEEPKEEP_MASTER_KEY_COMMAND);

/** What the program prints that `DEEPKEEP_MASTER_KEY_COMMAND` names, with its arguments: a vault's own client, say. */
function askForMasterKey(command: string): string {
  const [program, ...args] = command.split(/\s+/).filter(Boolean);
  try {
    return execFileSync(program!, args, { encoding: "utf8", timeout: VAULT_WAIT_MS }).trim();
  } catch (error) {
    throw new Error(`DEEPKEEP_MASTER_KEY_COMMAND returned no master key: ${(error as Error).message}`, {
      cause: error,
    });
  }
}

/** Reads the settings of a console from its data folder; environment variables go before the files. */
export function readSettings(env: NodeJS.ProcessEnv = process.env): Settings {
  const home = env.DEEPKEEP_HOME;
  if (!home) throw new Error("DEEPKEEP_HOME is not set: it names the data folder of the console");
  const file = (name: string) => {
    if (!existsSync(join(home, name)))
      throw new Error(
        `There is no console in ${home}: ${name} is not there. DEEPKEEP_HOME=${home} bin/start --empty begins one.`,
      );
    return readFileSync(join(home, name), "utf8").trim();
  };
  return settingsSchema.parse({
    home,
    databaseUrl: env.DEEPKEEP_DATABASE_URL ?? JSON.parse(file("database.json")).app,
    masterKey:
      env.DEEPKEEP_MASTER_KEY ??
      (env.DEEPKEEP_MASTER_KEY_COMMAND
        ? askForMasterKey(env.DEEPKEEP_MASTER_KEY_COMMAND)
        : file("master.key")),
  });
}
