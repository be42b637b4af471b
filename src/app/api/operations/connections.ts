import { z } from "zod";
import { notify } from "@/db/base/notify";
import {
  type Connection,
  connectionById,
  listConnections,
  markConnectionGone,
} from "@/db/sources/connections";
import { listMachines, machineById, markGone } from "@/db/sources/machines";
import { connectionBody, connectionSecret } from "@/kinds/connecting";
import { networkAccess } from "@/kinds/server";
import { isGranted } from "@/kinds/settings";
import { storeConnection, storeSecret, testWished, wishedConnection, wordOf } from "@/runs/connecting";
import { lookAt, opened } from "@/runs/connections";
import { operation } from "@/server/api/operation";
import { invalid, notFound, Problem } from "@/server/base/problem";
import * as shape from "../shapes";
import { clientParam, scopeQuery, uuid } from "./ids";

const connectionParam = z.object({ connectionId: uuid });

/** A connection as it is shown: never its secret. */
const shown = ({ secret: _, ...connection }: Connection) => connection;

export const connections = [
  operation({
    id: "listConnections",
    method: "GET",
    path: "/connections",
    summary: "Enrolled machines with system and volumes, and connections over the network.",
    caller: "look",
    pages: { of: "connections" },
    query: scopeQuery.pick({ client: true }),
    answer: z.object({
      connections: shape.list(
        z.union([
          z.object({
            id: z.string(),
            clientId: z.string(),
            siteId: z.string(),
            name: z.string(),
            system: shape.machineSystem,
            enrolledAt: shape.moment,
            seenAt: shape.moment.nullable(),
            goneAt: shape.moment.nullable(),
            kind: z.string(),
          }),
          shape.connection,
        ]),
      ),
    }),
    run: (context, { query }) =>
      context.tx(async (tx) => ({
        connections: [
          ...(await listMachines(tx, query.client ?? null)).map(({ publicKey: _, ...machine }) => ({
            kind: "machine",
            ...machine,
          })),
          ...(await listConnections(tx, query.client ?? null)).map(shown),
        ],
      })),
  }),
  operation({
    id: "connect",
    method: "POST",
    path: "/clients/{clientId}/connections",
    summary:
      "Connect what the console reads over the network, of the kind given. It is tested first; what it offers becomes sources.",
    caller: "work",
    status: 201,
    params: clientParam,
    body: connectionBody,
    answer: z.object({
      connection: shape.connection,
      sources: z.number(),
      steps: shape.list(shape.testStep),
    }),
    run: async (context, { params, body }) => {
      const { services, who } = context;
      const wished = await context.tx((tx) => wishedConnection(tx, params.clientId, body));
      if (isGranted(wished.settings))
        throw invalid(
          "auth",
          "This connection is authorised at the server's page: request an authorisation.",
        );
      // outside the transaction: the far end may take its time
      const { found, steps } = await testWished(body, wished);
      const { connection, sources } = await context.tx((tx) =>
        storeConnection(services, tx, who, params.clientId, body, wished, found),
      );
      return { connection: shown(connection), sources, steps };
    },
  }),
  operation({
    id: "discover",
    method: "POST",
    path: "/connections/{connectionId}/discoveries",
    summary: "Test a connection step by step, and add what it newly offers as sources.",
    caller: "work",
    params: connectionParam,
    answer: z.object({
      sources: z.number(),
      ok: z.boolean(),
      code: shape.codeName.nullable(),
      steps: shape.list(shape.testStep),
    }),
    run: async (context, { params }) => {
      const connection = await context.tx((tx) => connectionById(tx, params.connectionId));
      if (!connection) throw notFound();
      if (connection.goneAt) throw new Problem("request.conflict", `${connection.name} was removed.`);
      const { found, ...test } = await lookAt(context.services, connection.id);
      return { ...test, sources: found.length };
    },
  }),
  operation({
    id: "renewSecret",
    method: "PUT",
    path: "/connections/{connectionId}/secret",
    summary: "Change the secret of a connection. The new one is tested before it replaces the old one.",
    caller: "work",
    params: connectionParam,
    body: z.object({ clientSecret: connectionSecret }),
    answer: z.object({ steps: shape.list(shape.testStep), sources: z.number() }),
    run: async (context, { params, body }) => {
      const connection = await context.tx((tx) => connectionById(tx, params.connectionId));
      if (!connection) throw notFound();
      if (isGranted(connection.settings))
        throw invalid("clientSecret", `${connection.name} has no secret: authorise it again.`);
      const test = await networkAccess(connection.kind).test({
        ...opened(context.services, connection),
        secret: body.clientSecret,
      });
      if (!test.ok) throw invalid("clientSecret", test.steps.at(-1)!.message ?? "It was refused.");
      await context.tx((tx) =>
        storeSecret(context.services, tx, context.who, connection, body.clientSecret, {
          found: test.found,
          did: "changed the secret of",
        }),
      );
      return { steps: test.steps, sources: test.found.length };
    },
  }),
  operation({
    id: "removeConnection",
    method: "DELETE",
    path: "/connections/{connectionId}",
    summary: "Remove a machine or a connection. It is no longer backed up; its recovery points remain.",
    caller: "work",
    params: connectionParam,
    answer: z.object({ goneAt: shape.moment }),
    run: (context, { params }) =>
      context.tx(async (tx) => {
        const machine = await machineById(tx, params.connectionId);
        if (machine) {
          await markGone(tx, machine.id, context.who.at);
          await context.record(tx, machine.clientId, "removed a machine", machine.name);
          await notify(tx, { kind: "machine", clientId: machine.clientId, id: machine.id });
          return { goneAt: context.who.at };
        }
        const connection = await connectionById(tx, params.connectionId);
        if (!connection) throw notFound();
        await markConnectionGone(tx, connection.id, context.who.at);
        await context.record(tx, connection.clientId, `removed a ${wordOf(connection)}`, connection.name);
        await notify(tx, { kind: "connection", clientId: connection.clientId, id: connection.id });
        return { goneAt: context.who.at };
      }),
  }),
];
