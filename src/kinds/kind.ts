/**
 * What a kind of source is called, how it is reached and how it is counted. Plain data without imports of a kind: it is part
 * of every bundle, and core reads it.
 */
export interface Kind {
  /** Several sources of the kind, as a policy's rule names them. */
  readonly sources: string;
  /** What a recovery point of the kind contains. */
  readonly item: string;
  readonly items: string;
  /** What a restore puts back, where that is not an item. */
  readonly restored?: { readonly one: string; readonly many: string };
  /** What a contract and Usage count. */
  readonly unit: { readonly one: string; readonly many: string };
  /** Its recovery points can be shared with a client's people, who look into them and restore them in the portal. */
  readonly shared: boolean;
  /** A single table can be restored. */
  readonly tables?: true;
  /** A restore can keep, replace or skip what has the same name. */
  readonly clashes?: true;
  /** What is restored can be started at once, while its data is still copied. */
  readonly starts?: true;
  /** What is missing where a restore to another source names no folder; null where the original folders do. */
  readonly nameElsewhere: string | null;
  /** An agent reads it on its machine, or the runner over the network. */
  readonly reachedBy: "agent" | "network";
  readonly connection: {
    readonly name: string;
    /** One line in *Connect…*: what must be there first. */
    readonly requires: string;
  };
}
