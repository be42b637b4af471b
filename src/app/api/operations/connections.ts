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
import { AUTHS_OF, MAIL_AUTHS, MAIL_PROTOCOLS, type MailSettings } from "@/kinds/mail/settings";
import { NETWORK_ACCESS } from "@/kinds/server";
import { addFound, lookAt, opened, secretContext } from "@/runs/connections";
import { operation } from "@/server/api/operation";
import { invalid, notFound, Problem } from "@/server/base/problem";
import * as shape from "../shapes";
import { clientParam, hostName, name, scopeQuery, uuid } from "./ids";

const connectionParam = z.object({ connectionId: uuid });

const secret = z.string().min(1, "Enter the client secret.").max(500, "500 characters at most.");
const mailBody = z.object({
  siteId: uuid,
  name: name("a name for the tenant, as people call it"),
  protocol: z.enum(MAIL_PROTOCOLS).default("jmap"),
  /** `https://` for JMAP, `imaps://` or (with STARTTLS) `imap://` for IMAP. */
  address: z
    .url({
      protocol: /^(https?|imaps?)$/,
      error: "Enter the server's address, such as https://mail.example.",
    })
    .max(300),
  /**
   * JMAP: an application of the tenant (OAuth 2.0 client credentials), a user name and password, or a bearer token. IMAP: a
   * user name and password, a master user, a user with proxy authorisation, or a bearer token.
   */
  auth: z.enum(MAIL_AUTHS).default("application"),
  /** Of an application. */
  tenantId: z.string().trim().max(200).default(""),
  /** Of a master user or proxy: the mailboxes, as their users sign in. */
  mailboxes: z.array(name("the name of a mailbox", 200)).max(2000).default([]),
  /** Of a master user: what stands between the mailbox and the master user's name. */
  separator: z.string().trim().min(1).max(5).default("*"),
  /** The application's client id, or the user name. */
  clientId: z.string().trim().max(200).default(""),
  /** The client secret, the password or the token. */
  clientSecret: secret,
  region: name("the region where the mail is stored", 60),
  /** Hosts besides the address's own to which the secret may be sent. */
  otherHosts: z.array(hostName).max(10).default([]),
});
type MailBody = z.infer<typeof mailBody>;

/** Refuses what a way of signing in needs and was not given. */
function refuseIncomplete({ auth, tenantId, clientId, protocol, address, mailboxes }: MailBody): void {
  if (!AUTHS_OF[protocol].includes(auth))
    throw invalid("auth", `A server that speaks ${protocol.toUpperCase()} has no such way to sign in.`);
  if (new URL(address).protocol.startsWith("imap") !== (protocol === "imap"))
    throw invalid(
      "address",
      protocol === "imap"
        ? "Enter the address of an IMAP server, such as imaps://mail.example."
        : "Enter the address of a JMAP server, such as https://mail.example.",
    );
  if ((auth === "master" || auth === "proxy") && mailboxes.length === 0)
    throw invalid("mailboxes", "Enter the mailboxes that this user is to read.");
  if (protocol === "imap" && !clientId) throw invalid("clientId", "Enter the user name.");
  if (auth === "application" && !tenantId) throw invalid("tenantId", "Enter the tenant id.");
  if (auth !== "bearer" && !clientId)
    throw invalid(
      "clientId",
      auth === "password" ? "Enter the user name." : "Enter the client id of the application.",
    );
}
const settingsOf = (body: MailBody): MailSettings => {
  const { auth, protocol, tenantId, clientId, region, otherHosts, mailboxes, separator } = body;
  const named = auth === "master" || auth === "proxy" ? { mailboxes } : {};
  return {
    auth,
    protocol,
    tenantId,
    clientId,
    region,
    otherHosts,
    ...named,
    ...(auth === "master" ? { separator } : {}),
  };
};
/** Protocol, host and port. */
const originOf = (address: string): string => {
  const { protocol, host } = new URL(address);
  return `${protocol}//${host}`;
};

/** A connection as it is shown: never its secret. */
const shown = ({ secret: _, ...connection }: Connection) => connection;

/** The fields of the form that a failed step is about. */
const FIELD_OF_CODE: Partial<Record<string, string>> = {
  "source.not-reached": "address",
  "source.signin-refused": "clientSecret",
  "source.not-allowed": "clientId",
  "source.unreadable": "address",
  "source.other-host": "otherHosts",
};

export const connections = [
  operation({
    id: "listConnections",
    method: "GET",
    path: "/connections",
    summary: "Enrolled machines with system and volumes, and mail tenants.",
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
    id: "connectMailTenant",
    method: "POST",
    path: "/clients/{clientId}/mail-tenants",
    summary: "Connect a mail tenant. It is tested first; its mailboxes become sources.",
    caller: "work",
    status: 201,
    params: clientParam,
    body: mailBody,
    answer: z.object({
      connection: shape.connection,
      mailboxes: z.number(),
      steps: shape.list(shape.testStep),
    }),
    run: async (context, { params, body }) => {
      await context.tx(async (tx) => {
        if (!(await clientById(tx, params.clientId))) throw notFound();
        if ((await siteById(tx, body.siteId))?.clientId !== params.clientId)
          throw invalid("siteId", "Choose a site of this client.");
        const there = (await listConnections(tx, params.clientId)).filter((one) => !one.goneAt);
        if (there.some((one) => one.name === body.name))
          throw invalid("name", "This client has a connection of this name.");
        const origin = originOf(body.address);
        const same = there.find(
          ({ address, settings }) =>
            address === origin && settings.tenantId === body.tenantId && settings.clientId === body.clientId,
        );
        if (same) throw invalid("address", `This tenant is connected already, as “${same.name}”.`);
      });
      // outside the transaction: the far end may take its time
      refuseIncomplete(body);
      const test = await NETWORK_ACCESS.mail.test({
        address: body.address,
        settings: settingsOf(body),
        secret: body.clientSecret,
      });
      if (!test.ok) {
        const failed = test.steps.at(-1)!;
        // a master user that may not, or a mailbox that is not there
        const field =
          test.code === "source.not-allowed" && body.mailboxes.length > 0
            ? "mailboxes"
            : (FIELD_OF_CODE[test.code!] ?? "address");
        throw invalid(field, `${failed.step}: ${failed.message}`);
      }
      return context.tx(async (tx) => {
        const id = randomUUID();
        const connection: Connection = {
          id,
          clientId: params.clientId,
          siteId: body.siteId,
          kind: "mail",
          name: body.name,
          address: originOf(body.address),
          settings: settingsOf(body),
          secret: context.services.secrets.seal(Buffer.from(body.clientSecret), secretContext(id)),
          checkedAt: context.who.at,
          checkCode: null,
          checkMessage: null,
          goneAt: null,
        };
        await insertConnection(tx, connection, context.who.at);
        await markChecked(tx, id, context.who.at, null, null);
        const mailboxes = await addFound(tx, connection, test.found, context.who.at);
        await context.record(tx, params.clientId, "connected a mail tenant", body.name, {
          address: connection.address,
          tenant: body.tenantId,
          mailboxes,
        });
        await notify(tx, { kind: "connection", clientId: params.clientId, id });
        return { connection: shown(connection), mailboxes, steps: test.steps };
      });
    },
  }),
  operation({
    id: "testConnection",
    method: "POST",
    path: "/connections/{connectionId}/test",
    summary: "Test a mail tenant step by step, and add its new mailboxes as sources.",
    caller: "work",
    params: connectionParam,
    answer: z.object({
      mailboxes: z.number(),
      ok: z.boolean(),
      code: shape.codeName.nullable(),
      steps: shape.list(shape.testStep),
    }),
    run: async (context, { params }) => {
      const connection = await context.tx((tx) => connectionById(tx, params.connectionId));
      if (!connection) throw notFound();
      if (connection.goneAt) throw new Problem("request.conflict", `${connection.name} was removed.`);
      const { found, ...test } = await lookAt(context.services, connection.id);
      return { ...test, mailboxes: found.length };
    },
  }),
  operation({
    id: "renewSecret",
    method: "PUT",
    path: "/connections/{connectionId}/secret",
    summary:
      "Change the client secret of a mail tenant. The new one is tested before it replaces the old one.",
    caller: "work",
    params: connectionParam,
    body: z.object({ clientSecret: secret }),
    answer: z.object({ steps: shape.list(shape.testStep), mailboxes: z.number() }),
    run: async (context, { params, body }) => {
      const connection = await context.tx((tx) => connectionById(tx, params.connectionId));
      if (!connection) throw notFound();
      const test = await NETWORK_ACCESS[connection.kind].test({
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
        await context.record(tx, connection.clientId, "changed the secret of a mail tenant", connection.name);
        await notify(tx, { kind: "connection", clientId: connection.clientId, id: connection.id });
      });
      return { steps: test.steps, mailboxes: test.found.length };
    },
  }),
  operation({
    id: "removeConnection",
    method: "DELETE",
    path: "/connections/{connectionId}",
    summary: "Remove a machine or a mail tenant. It is no longer backed up; its recovery points remain.",
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
        await context.record(tx, connection.clientId, "removed a mail tenant", connection.name);
        await notify(tx, { kind: "connection", clientId: connection.clientId, id: connection.id });
        return { goneAt: context.who.at };
      }),
  }),
];
