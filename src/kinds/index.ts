import { DATABASE } from "./database/kind";
import { FILES } from "./files/kind";
import { GUEST } from "./guest/kind";
import type { Kind } from "./kind";
import { LIBRARY } from "./library/kind";
import { MAIL } from "./mail/kind";

/** All kinds of source, by the id that database, API and recovery points use. The other registries are complete over it. */
export const KINDS = {
  files: FILES,
  mail: MAIL,
  database: DATABASE,
  guest: GUEST,
  library: LIBRARY,
} as const satisfies Readonly<Record<string, Kind>>;
export type SourceKind = keyof typeof KINDS;
export const SOURCE_KINDS = Object.keys(KINDS) as [SourceKind, ...SourceKind[]];

type ReachedBy<How extends Kind["reachedBy"]> = {
  [Id in SourceKind]: (typeof KINDS)[Id]["reachedBy"] extends How ? Id : never;
}[SourceKind];
/** Kinds that the runner reads over the network. */
export type NetworkKind = ReachedBy<"network">;

/** A kind by its id; null for one that a newer version wrote. */
export const kindOf = (id: string): Kind | null =>
  Object.hasOwn(KINDS, id) ? KINDS[id as SourceKind] : null;

/** What a restore of a kind counts. */
export const restoredWords = (kind: Kind): { readonly one: string; readonly many: string } =>
  kind.restored ?? { one: kind.item, many: kind.items };
