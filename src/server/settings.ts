import { readFileSync } from "node:fs";
import { join } from "node:path";
import { z } from "zod";

const settingsSchema = z.object({
  /** The data folder. */
  home: z.string(),
  databaseUrl: z.string(),
  masterKey: z.string().regex(/^[0-9a-f]{64}$/),
});
export type Settings = z.infer<typeof settingsSchema>;

/** Reads the settings of a console from its data folder; environment variables go before the files. */
export function readSettings(env: NodeJS.ProcessEnv = process.env): Settings {
  const home = env.DEEPKEEP_HOME;
  if (!home) throw new Error("DEEPKEEP_HOME is not set: it names the data folder of the console");
  const file = (name: string) => readFileSync(join(home, name), "utf8").trim();
  return settingsSchema.parse({
    home,
    databaseUrl: env.DEEPKEEP_DATABASE_URL ?? JSON.parse(file("database.json")).app,
    masterKey: env.DEEPKEEP_MASTER_KEY ?? file("master.key"),
  });
}
