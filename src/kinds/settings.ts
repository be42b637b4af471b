import { z } from "zod";
import { databaseFacts, databaseSettings } from "./database/settings";
import { guestFacts, guestSettings } from "./guest/settings";
import type { NetworkKind } from "./index";
import { libraryFacts, librarySettings } from "./library/settings";
import { mailFacts, mailSettings } from "./mail/settings";

/** The settings of each kind's connections. */
export const SETTINGS = {
  mail: mailSettings,
  database: databaseSettings,
  guest: guestSettings,
  library: librarySettings,
} as const satisfies Readonly<Record<NetworkKind, z.ZodType>>;
export type SettingsOf = { readonly [Id in NetworkKind]: z.infer<(typeof SETTINGS)[Id]> };
export type ConnectionSettings = SettingsOf[NetworkKind];
/** Settings of any kind, as they are stored: fields that a later version added are kept. */
export const anySettings = z.union([
  mailSettings.loose(),
  databaseSettings.loose(),
  guestSettings.loose(),
  librarySettings.loose(),
]);

/** Whether a connection with these settings is authorised by a person at the server's own page (OAuth 2.0). */
export const isGranted = (settings: ConnectionSettings): boolean =>
  "auth" in settings && settings.auth === "grant";

/** A line of what people see of a connection's settings. */
export interface SettingFact {
  readonly label: string;
  readonly value: string;
}
const FACTS: { readonly [Id in NetworkKind]: (settings: SettingsOf[Id]) => readonly SettingFact[] } = {
  mail: mailFacts,
  database: databaseFacts,
  guest: guestFacts,
  library: libraryFacts,
};
/** What people see of a connection's settings. */
export const settingFacts = (kind: NetworkKind, settings: ConnectionSettings): readonly SettingFact[] =>
  (FACTS[kind] as (settings: ConnectionSettings) => readonly SettingFact[])(settings).filter(
    ({ value }) => value !== "",
  );
