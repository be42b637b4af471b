import { randomUUID } from "node:crypto";
import { z } from "zod";
import { notify } from "@/db/base/notify";
import { clientById, siteById } from "@/db/clients/clients";
import {
  type Connection,
  connectionById,
  insertConnection,
  listConnections,
  markChecked,
  markConnectionGone,
  setSecret,
} from "@/db/sources/connections";
import { listMachines, machineById, markGone } from "@/db/sources/machines";
import { KINDS } from "@/kinds";
import { connectingOf, connectionBody, connectionSecret } from "@/kinds/connecting";
import { networkAccess } from "@/kinds/server";
import { addFound, lookAt, opened, secretContext } from "@/runs/connections";
import { operation } from "@/server/api/operation";
import { invalid, notFound, Problem } from "@/server/base/problem";
import * as shape from "../shapes";
import { clientParam, scopeQuery, uuid } from "./ids";

const connectionParam = z.object({ connectionId: uuid });

/** A connection as it is shown: never its secret. */
const shown = ({ secret: _, ...connection }: Connection) => connection;

/** What the trail calls a connection. */
const wordOf = ({ kind }: Pick<Connection, "kind">): string => KINDS[kind].connection.name.toLowerCase();

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
      const { problemOf, connectionOf, identityOf, fieldOf } = connectingOf(body.kind);
      const wished = connectionOf(body);
      await context.tx(async (tx) => {
        if (!(await clientById(tx, params.clientId))) throw notFound();
        if ((await siteById(tx, body.siteId))?.clientId !== params.clientId)
          throw invalid("siteId", "Choose a site of this client.");
        const there = (await listConnections(tx, params.clientId)).filter((one) => !one.goneAt);
        if (there.some((one) => one.name === body.name))
          throw invalid("name", "This client has a connection of this name.");
        const same = there.find((one) => one.kind === body.kind && identityOf(one) === identityOf(wished));
        if (same) throw invalid("address", `This address is connected already, as “${same.name}”.`);
      });
      const problem = problemOf(body);
      if (problem) throw invalid(problem.field, problem.message);
      // outside the transaction: the far end may take its time
      const test = await networkAccess(body.kind).test({ ...wished, address: body.address });
      if (!test.ok) {
        const failed = test.steps.at(-1)!;
        throw invalid(fieldOf(test.code!, body, failed.step), `${failed.step}: ${failed.message}`);
      }
      return context.tx(async (tx) => {
        const id = randomUUID();
        const connection: Connection = {
          id,
          clientId: params.clientId,
          siteId: body.siteId,
          kind: body.kind,
          name: body.name,
          address: wished.address,
          settings: wished.settings,
          secret: context.services.secrets.seal(Buffer.from(wished.secret), secretContext(id)),
          checkedAt: context.who.at,
          checkCode: null,
          checkMessage: null,
          goneAt: null,
        };
        await insertConnection(tx, connection, context.who.at);
        await markChecked(tx, id, context.who.at, null, null);
        const sources = await addFound(tx, connection, test.found, context.who.at);
        await context.record(tx, params.clientId, `connected a ${wordOf(connection)}`, body.name, {
          address: connection.address,
          sources,
        });
        await notify(tx, { kind: "connection", clientId: params.clientId, id });
        return { connection: shown(connection), sources, steps: test.steps };
      });
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
      const test = await networkAccess(connection.kind).test({
        ...opened(context.services, connection),
        secret: body.clientSecret,
      });
      if (!test.ok) throw invalid("clientSecret", test.steps.at(-1)!.message ?? "It was refused.");
      await context.tx(async (tx) => {
        const sealed = context.services.secrets.seal(
          Buffer.from(body.clientSecret),
          secretContext(connection.id),
        );
        await setSecret(tx, connection.id, sealed);
        await markChecked(tx, connection.id, context.who.at, null, null);
        await addFound(tx, connection, test.found, context.who.at);
        await context.record(
          tx,
          connection.clientId,
          `changed the secret of a ${wordOf(connection)}`,
          connection.name,
        );
        await notify(tx, { kind: "connection", clientId: connection.clientId, id: connection.id });
      });
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
