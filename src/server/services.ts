import { type Database, openDatabase } from "@/db/scope";
import { type Secrets, secretsWith } from "@/store/secrets";
import { Attempts } from "./attempts";
import { Places } from "./places";
import type { Settings } from "./settings";
import { SpaceReaders } from "./space-readers";
import { RunnerKeys, SessionKeys } from "./unlocked";

/** What every part of the server is handed. Time comes from here and from nowhere else. */
export interface Services {
  readonly db: Database;
  readonly secrets: Secrets;
  readonly places: Places;
  readonly spaces: SpaceReaders;
  /** Attempts to guess a secret, counted for all processes together. */
  readonly attempts: Attempts;
  /** Keys that sessions of this process opened by a passphrase; null in the runner, to which they are lent. */
  readonly sessionKeys: SessionKeys | null;
  /** What this runner is lent; null where no runner is. */
  readonly runnerKeys: RunnerKeys | null;
  now(): Date;
}

export function makeServices(
  settings: Settings,
  now: () => Date = () => new Date(),
  part: "web" | "runner" = "web",
): Services {
  const db = openDatabase(settings.databaseUrl);
  const sessionKeys = part === "web" ? new SessionKeys(now) : null;
  const runnerKeys = part === "runner" ? new RunnerKeys(db, now) : null;
  const secrets = secretsWith(Buffer.from(settings.masterKey, "hex"));
  const places = new Places(secrets);
  const spaces = new SpaceReaders(db, secrets, places, now, (sessionKeys ?? runnerKeys)!);
  const attempts = new Attempts(db);
  return { db, secrets, now, places, spaces, attempts, sessionKeys, runnerKeys };
}
