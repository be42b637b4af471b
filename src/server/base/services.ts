import { type Database, openDatabase } from "@/db/base/scope";
import { type Secrets, secretsWith } from "@/store/seal/secrets";
import { Attempts } from "../access/attempts";
import { LentKeys } from "../access/unlocked";
import { Places } from "../depots/places";
import { SpaceReaders } from "../inside/space-readers";
import type { Settings } from "./settings";

/** What every part of the server is handed. Time comes from here and from nowhere else. */
export interface Services {
  readonly db: Database;
  readonly secrets: Secrets;
  readonly places: Places;
  readonly spaces: SpaceReaders;
  /** Attempts to guess a secret, counted for all processes together. */
  readonly attempts: Attempts;
  /** Keys that sessions opened by a passphrase, lent to this process. */
  readonly lentKeys: LentKeys;
  now(): Date;
}

export function makeServices(
  settings: Settings,
  now: () => Date = () => new Date(),
  part: "web" | "runner" = "web",
): Services {
  const db = openDatabase(settings.databaseUrl);
  const lentKeys = new LentKeys(db, now, part);
  const secrets = secretsWith(Buffer.from(settings.masterKey, "hex"));
  const places = new Places(secrets);
  const spaces = new SpaceReaders(db, secrets, places, now, lentKeys);
  const attempts = new Attempts(db);
  return { db, secrets, now, places, spaces, attempts, lentKeys };
}
