import { z } from "zod";
import { connectionBase, connectionSecret, type OpenConnection } from "./connection-base";
import { DATABASE_CONNECTING } from "./database/connecting";
import { GUEST_CONNECTING } from "./guest/connecting";
import type { NetworkKind } from "./index";
import { LIBRARY_CONNECTING } from "./library/connecting";
import { MAIL_CONNECTING } from "./mail/connecting";
import type { ConnectionSettings } from "./settings";

/** A field of the request, and what is wrong with it. */
export interface FieldProblem {
  readonly field: string;
  readonly message: string;
}

/** How a kind is connected that the runner reaches over the network. */
export interface Connecting<Body extends z.ZodObject, Settings> {
  /** What is asked for, besides the client, the site and a name. */
  readonly body: Body;
  /** What the schema cannot tell: a field that this way of signing in needs. */
  readonly problemOf: (body: z.infer<Body>) => FieldProblem | null;
  readonly connectionOf: (body: z.infer<Body>) => OpenConnection<Settings>;
  /** What two connections to the same place have in common. */
  readonly identityOf: (connection: Pick<OpenConnection<Settings>, "address" | "settings">) => string;
  /** The field that a failed test is about. */
  readonly fieldOf: (code: string, body: z.infer<Body>, step: string) => string;
}

export { connectionSecret };

const connecting = <B extends z.ZodObject, S>(one: Connecting<B, S>): Connecting<B, S> => one;
export const CONNECTING = {
  mail: connecting(MAIL_CONNECTING),
  database: connecting(DATABASE_CONNECTING),
  guest: connecting(GUEST_CONNECTING),
  library: connecting(LIBRARY_CONNECTING),
} as const satisfies Readonly<Record<NetworkKind, object>>;

/** The request that connects a source of any kind over the network. */
export const connectionBody = z.discriminatedUnion("kind", [
  connectionBase.extend({ kind: z.literal("mail"), ...CONNECTING.mail.body.shape }),
  connectionBase.extend({ kind: z.literal("database"), ...CONNECTING.database.body.shape }),
  connectionBase.extend({ kind: z.literal("guest"), ...CONNECTING.guest.body.shape }),
  connectionBase.extend({ kind: z.literal("library"), ...CONNECTING.library.body.shape }),
]);
export type ConnectionBody = z.infer<typeof connectionBody>;

/** How a kind is connected, for who knows no kind: the body is that of the kind's own schema. */
export const connectingOf = (kind: NetworkKind) =>
  CONNECTING[kind] as unknown as {
    readonly problemOf: (body: object) => FieldProblem | null;
    readonly connectionOf: (body: object) => OpenConnection<ConnectionSettings>;
    readonly identityOf: (
      connection: Pick<OpenConnection<ConnectionSettings>, "address" | "settings">,
    ) => string;
    readonly fieldOf: (code: string, body: object, step: string) => string;
  };
