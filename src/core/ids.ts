declare const of: unique symbol;

/**
 * An id that says of what it is. Text that comes from outside or from the database is one of any kind, but an id of one kind
 * is refused by the compiler where one of another kind is wanted.
 */
type Id<Kind extends string> = string & { readonly [of]?: Kind };

export type ClientId = Id<"client">;
export type SiteId = Id<"site">;
export type SourceId = Id<"source">;
export type MachineId = Id<"machine">;
export type ConnectionId = Id<"connection">;
export type PolicyId = Id<"policy">;
export type DepotId = Id<"depot">;
/** A client's space in a depot. */
export type SpaceId = Id<"space">;
export type RunId = Id<"run">;
export type PersonId = Id<"person">;
