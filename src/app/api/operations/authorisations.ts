import { randomUUID } from "node:crypto";
import { z } from "zod";
import { CodedError } from "@/core/codes";
import { clientById } from "@/db/clients/clients";
import { insertAuthorisation, removeAuthorisations, takeAuthorisation } from "@/db/sources/authorisations";
import { type Connection, connectionById } from "@/db/sources/connections";
import { type ConnectionBody, connectionBody } from "@/kinds/connecting";
import type { OpenConnection } from "@/kinds/connection-base";
import type { GrantAccess } from "@/kinds/network";
import { networkAccess } from "@/kinds/server";
import { type ConnectionSettings, isGranted } from "@/kinds/settings";
import {
  authorisationContext,
  storeConnection,
  storeSecret,
  testWished,
  wishedConnection,
} from "@/runs/connecting";
import { opened } from "@/runs/connections";
import { originOf } from "@/server/access/invitations";
import { type Context, operation } from "@/server/api/operation";
import { invalid, notFound, Problem } from "@/server/base/problem";
import * as shape from "../shapes";
import { clientParam, uuid } from "./ids";

/** Connections that a person authorises at the server's own page: the browser goes there, and returns with a code. */

const connectionParam = z.object({ connectionId: uuid });
/** Where the browser returns to. */
export const RETURN_PATH = "/authorised";
/** So long a person may take at the server's page. */
const PATIENCE_MS = 3_600_000;

/** What is kept until the browser returns. */
interface Begun {
  readonly verifier: string;
  readonly redirectUri: string;
  /** Of a new connection. */
  readonly body: ConnectionBody | null;
}

/** How a connection is granted. Throws a problem where it signs in otherwise. */
function grantOf(
  kind: Connection["kind"],
  wished: Pick<OpenConnection<ConnectionSettings>, "settings">,
): GrantAccess<ConnectionSettings> {
  const { grant } = networkAccess(kind);
  if (!grant || !isGranted(wished.settings))
    throw invalid("auth", "A connection that signs in this way is not authorised at a page of the server.");
  return grant;
}

async function begin(
  context: Context,
  clientId: string,
  connectionId: string | null,
  body: ConnectionBody | null,
  wished: OpenConnection<ConnectionSettings>,
  grant: GrantAccess<ConnectionSettings>,
): Promise<{ url: string; expiresAt: Date }> {
  const id = randomUUID();
  const redirectUri = `${originOf(context.request)}${RETURN_PATH}`;
  const { url, verifier } = await grant.begin(wished, redirectUri, id).catch((error: unknown) => {
    if (error instanceof CodedError)
      throw body ? invalid("issuer", error.message) : new Problem(error.code, error.message);
    throw error;
  });
  const begun: Begun = { verifier, redirectUri, body };
  await context.tx(async (tx) => {
    await removeAuthorisations(tx, new Date(context.who.at.getTime() - PATIENCE_MS));
    await insertAuthorisation(tx, {
      id,
      clientId,
      connectionId,
      askedBy: context.person!.id,
      askedAt: context.who.at,
      sealed: context.services.secrets.seal(Buffer.from(JSON.stringify(begun)), authorisationContext(id)),
    });
  });
  return { url, expiresAt: new Date(context.who.at.getTime() + PATIENCE_MS) };
}

const begunAnswer = z.object({ url: z.string(), expiresAt: shape.moment });

export const authorisations = [
  operation({
    id: "authorise",
    method: "POST",
    path: "/clients/{clientId}/authorisations",
    summary:
      "Begin to connect something that a person authorises at the server's own page (OAuth 2.0). The answer has the address of that page.",
    caller: "work",
    status: 201,
    params: clientParam,
    body: connectionBody,
    answer: begunAnswer,
    run: async (context, { params, body }) => {
      const wished = await context.tx((tx) => wishedConnection(tx, params.clientId, body));
      return begin(context, params.clientId, null, body, wished, grantOf(body.kind, wished));
    },
  }),
  operation({
    id: "authoriseAgain",
    method: "POST",
    path: "/connections/{connectionId}/authorisations",
    summary: "Begin to authorise a connection again. The answer has the address of the server's page.",
    caller: "work",
    status: 201,
    params: connectionParam,
    answer: begunAnswer,
    run: async (context, { params }) => {
      const connection = await context.tx((tx) => connectionById(tx, params.connectionId));
      if (!connection) throw notFound();
      if (connection.goneAt) throw new Problem("request.conflict", `${connection.name} was removed.`);
      const wished = opened(context.services, connection);
      const grant = grantOf(connection.kind, wished);
      return begin(context, connection.clientId, connection.id, null, wished, grant);
    },
  }),
  operation({
    id: "completeAuthorisation",
    method: "POST",
    path: "/authorisations/{authorisationId}/completion",
    summary:
      "Complete an authorisation with what the browser returned with from the server's page. The connection is tested, and stored or renewed.",
    caller: "work",
    params: z.object({ authorisationId: uuid }),
    body: z.object({
      /** The query that the browser returned with. */
      returned: z.string().max(8192),
    }),
    answer: z.object({
      connection: shape.connection,
      client: z.object({ id: z.string(), slug: z.string(), name: z.string() }),
      sources: z.number(),
      steps: shape.list(shape.testStep),
    }),
    run: async (context, { params, body: { returned } }) => {
      const { services, who } = context;
      const since = new Date(who.at.getTime() - PATIENCE_MS);
      const taken = await context.tx(async (tx) => {
        const asked = await takeAuthorisation(tx, params.authorisationId, context.person!.id, since);
        if (!asked) return null;
        const client = await clientById(tx, asked.clientId);
        const connection = asked.connectionId ? await connectionById(tx, asked.connectionId) : null;
        return client && { asked, client, connection };
      });
      if (!taken)
        throw new Problem(
          "not-found",
          "This authorisation was completed already, has expired, or was begun by another person. Begin it again in Sources.",
        );
      const { asked, client, connection } = taken;
      const { verifier, redirectUri, body } = JSON.parse(
        services.secrets.unseal(asked.sealed, authorisationContext(asked.id)).toString("utf8"),
      ) as Begun;
      const kind = body?.kind ?? connection!.kind;
      const before = body
        ? await context.tx((tx) => wishedConnection(tx, client.id, body))
        : clientSecretOf(opened(services, connection!));
      const secret = await grantOf(kind, before)
        .complete(before, redirectUri, asked.id, verifier, new URLSearchParams(returned))
        .catch((error: unknown) => {
          if (error instanceof CodedError) throw new Problem(error.code, error.message);
          throw error;
        });
      const granted = { ...before, secret };
      const shownClient = { id: client.id, slug: client.slug, name: client.name };
      if (body) {
        const { found, steps } = await testWished(body, granted);
        const { connection: added, sources } = await context.tx((tx) =>
          storeConnection(services, tx, who, client.id, body, granted, found),
        );
        return { connection: withoutSecret(added), client: shownClient, sources, steps };
      }
      const { found, ok, steps, code } = await networkAccess(kind).test(granted);
      if (!ok) throw new Problem(code!, steps.at(-1)!.message ?? undefined);
      await context.tx((tx) =>
        storeSecret(services, tx, who, connection!, secret, { found, did: "authorised again" }),
      );
      return { connection: withoutSecret(connection!), client: shownClient, sources: found.length, steps };
    },
  }),
];

const withoutSecret = ({ secret: _, ...connection }: Connection) => connection;

/** A connection that is authorised again: of its secret only what the console itself signs in with. */
const clientSecretOf = (
  connection: OpenConnection<ConnectionSettings>,
): OpenConnection<ConnectionSettings> => ({
  ...connection,
  secret: String((JSON.parse(connection.secret) as { clientSecret?: string }).clientSecret ?? ""),
});
