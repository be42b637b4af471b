import { type Database, openDatabase } from "@/db/scope";
import { type Secrets, secretsWith } from "@/store/secrets";
import { Places } from "./places";
import type { Settings } from "./settings";
import { SpaceReaders } from "./space-readers";

/** What every part of the server is handed. Time comes from here and from nowhere else. */
export interface Services {
  readonly db: Database;
  readonly secrets: Secrets;
  readonly places: Places;
  readonly spaces: SpaceReaders;
  now(): Date;
}

export function makeServices(settings: Settings, now: () => Date = () => new Date()): Services {
  const db = openDatabase(settings.databaseUrl);
  const secrets = secretsWith(Buffer.from(settings.masterKey, "hex"));
  const places = new Places(secrets);
  return { db, secrets, now, places, spaces: new SpaceReaders(db, secrets, places, now) };
}
