import { type Database, openDatabase } from "@/db/scope";
import { type Secrets, secretsWith } from "@/store/secrets";
import type { Settings } from "./settings";
import { SpaceReaders } from "./space-readers";

/** What every part of the server is handed. Time comes from here and from nowhere else. */
export interface Services {
  readonly db: Database;
  readonly secrets: Secrets;
  readonly spaces: SpaceReaders;
  now(): Date;
}

export function makeServices(settings: Settings, now: () => Date = () => new Date()): Services {
  const db = openDatabase(settings.databaseUrl);
  const secrets = secretsWith(Buffer.from(settings.masterKey, "hex"));
  return { db, secrets, now, spaces: new SpaceReaders(db, secrets) };
}
