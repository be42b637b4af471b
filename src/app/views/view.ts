import type { ReactNode } from "react";
import type { Person } from "@/db/access/people";
import type { Tx } from "@/db/base/scope";
import type { Provider } from "@/db/clients/clients";
import type { Place } from "@/server/depots/place";

export type Search = Readonly<Record<string, string | string[] | undefined>>;

/** What a view is made from. */
export interface ViewInput {
  readonly tx: Tx;
  readonly place: Place;
  readonly now: Date;
  readonly provider: Provider;
  readonly portal: boolean;
  readonly person: Person;
  /** Tells this session from others; null for none. */
  readonly session: string | null;
  /** One value of the address's search part. */
  ask(name: string): string | undefined;
  /** This view's address with other values in its search part. */
  href(change: Readonly<Record<string, string | undefined>>): string;
}

export interface ViewOutput {
  readonly main: ReactNode;
  /** Null where a view has its own columns. */
  readonly docket: ReactNode | null;
}
