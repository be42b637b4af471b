import type { z } from "zod";
import type { ClientId } from "@/core/ids";
import type { Action } from "@/core/rights/rights";
import type { Person } from "@/db/access/people";
import type { ApiToken } from "@/db/access/sessions";
import type { Scope, Tx } from "@/db/base/scope";
import { record, type Who } from "../access/who";
import type { Services } from "../base/services";

/** Who may call an operation: anybody, anybody signed in, or whoever has the right to such an action. */
export type Caller = "anyone" | "person" | Action;

export interface Context {
  readonly services: Services;
  readonly person: Person | null;
  readonly scope: Scope;
  readonly who: Who;
  readonly request: Request;
  readonly sessionToken: string | null;
  /** The API token of the request; null for a session. */
  readonly token: ApiToken | null;
  /** What tells the caller's session or API token from others, in hex; null for nobody. */
  readonly sessionId: string | null;
  /** Headers of the answer, besides those that every answer has. */
  readonly headers: Headers;
  /** Runs in a transaction of the caller's scope. */
  tx<T>(work: (tx: Tx) => Promise<T>): Promise<T>;
  record(
    tx: Tx,
    clientId: ClientId | null,
    action: string,
    subject: string,
    details?: Record<string, unknown>,
  ): Promise<void>;
}

type Shape = z.ZodObject;
type Out<S> = S extends z.ZodType ? z.infer<S> : Record<string, never>;

export interface OperationInput<P, Q, B> {
  readonly params: Out<P>;
  readonly query: Out<Q>;
  readonly body: Out<B>;
}

/** A list in an answer that is given in pages: its name, and what tells its rows apart (`id` without). */
export interface PagedList {
  readonly of: string;
  readonly key?: string;
}

/** What a handler gives: what its answer is made from; a response of its own; nothing, where there is nothing to say. */
type Given<A> = A extends z.ZodType ? z.input<A> | Response : Response | undefined;

/** One operation of the API: from here come routing, checking, the OpenAPI document and the tests of tenancy. */
export interface Operation<
  P extends Shape | undefined = undefined,
  Q extends Shape | undefined = undefined,
  B extends z.ZodType | undefined = undefined,
  A extends z.ZodType | undefined = undefined,
> {
  readonly id: string;
  readonly method: "GET" | "POST" | "PUT" | "PATCH" | "DELETE";
  /** With `{name}` for parameters. */
  readonly path: string;
  readonly summary: string;
  readonly caller: Caller;
  readonly params?: P;
  readonly query?: Q;
  readonly body?: B;
  /** What it answers with, as JSON: what the handler gives goes through it. Without: 204, or `media`. */
  readonly answer?: A;
  /** What else it answers with: media types of a response that the handler makes itself. */
  readonly media?: readonly string[];
  /** The list of the answer that is given in pages, where it is read as a whole. */
  readonly pages?: PagedList;
  /** What was written for an earlier version, as this one has it; what is not, as it is. */
  readonly upgraded?: (body: unknown) => unknown;
  /** Fields of the answer, dotted, that are secrets and shown once: they are not kept for a repetition. */
  readonly shownOnce?: readonly string[];
  /** Status of success. */
  readonly status?: number;
  readonly run: (context: Context, input: OperationInput<P, Q, B>) => Promise<Given<A>>;
}

// biome-ignore lint/suspicious/noExplicitAny: a table holds operations of all shapes
export type AnyOperation = Operation<any, any, any, any>;

/** Keeps the types of an operation's parts while it is written down. */
export const operation = <
  P extends Shape | undefined = undefined,
  Q extends Shape | undefined = undefined,
  B extends z.ZodType | undefined = undefined,
  A extends z.ZodType | undefined = undefined,
>(
  one: Operation<P, Q, B, A>,
): Operation<P, Q, B, A> => one;

export function makeContext(
  services: Services,
  person: Person | null,
  scope: Scope,
  request: Request,
  address: string,
  sessionToken: string | null,
  sessionId: string | null,
  token: ApiToken | null = null,
): Context {
  const who: Who = { actor: person?.name ?? "somebody", address, at: services.now() };
  return {
    services,
    person,
    scope,
    who,
    request,
    sessionToken,
    sessionId,
    headers: new Headers(),
    token,
    tx: (work) => services.db.withScope(scope, work),
    record: (tx, clientId, action, subject, details) => record(tx, who, clientId, action, subject, details),
  };
}
