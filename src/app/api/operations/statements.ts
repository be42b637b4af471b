import { randomUUID } from "node:crypto";
import { z } from "zod";
import { isClientRole } from "@/core/rights/rights";
import { nextSending } from "@/core/statement/sending";
import { type Statement, statementCsv } from "@/core/statement/statement";
import { usageCsv } from "@/core/usage/usage";
import type { Tx } from "@/db/base/scope";
import { type Client, readProvider } from "@/db/clients/clients";
import { wholeLook } from "@/db/clients/looks";
import { mailSettings } from "@/db/notices/notices";
import {
  endLink,
  endSending,
  insertLink,
  insertWord,
  linksOf,
  sendingOf,
  setSending,
  takeBackWord,
} from "@/db/notices/statements";
import { originOf } from "@/server/access/invitations";
import { type Context, operation } from "@/server/api/operation";
import { invalid, notFound, Problem } from "@/server/base/problem";
import { clientStatement, periodOf, statementFile } from "@/server/statements/statement";
import { statementOfLink } from "@/server/statements/statement-link";
import { statementPdf } from "@/server/statements/statement-pdf";
import { sendStatement } from "@/server/statements/statement-sending";
import { usageOf } from "@/server/statements/usage";
import { hashSecret, randomSecret } from "@/store/seal/secrets";
import * as shape from "../shapes";
import { clientParam, day, email, theClient, uuid } from "./ids";

const paper = z.enum(["a4", "letter"]).default("a4");
const format = z.enum(["json", "csv", "pdf"]).default("json");
const recipients = z.array(email).min(1, "Enter at least one address.").max(20, "Twenty addresses at most.");
const within = clientParam.extend({ id: uuid });

/** A statement in the form that was asked for. */
async function answered(
  tx: Tx,
  client: Client,
  statement: Statement,
  asked: { readonly format: "json" | "csv" | "pdf"; readonly paper: "a4" | "letter" },
  now: Date,
): Promise<Response | { statement: Statement }> {
  if (asked.format === "json") return { statement };
  const body =
    asked.format === "csv"
      ? statementCsv(statement)
      : new Uint8Array(
          await statementPdf(
            statement,
            (await readProvider(tx))?.name ?? "",
            asked.paper,
            now,
            await wholeLook(tx, client.id),
          ),
        );
  return new Response(body, {
    headers: {
      "content-type": asked.format === "csv" ? "text/csv; charset=utf-8" : "application/pdf",
      "content-disposition": `attachment; filename="${statementFile(client, statement, asked.format)}"`,
      "cache-control": "no-store",
    },
  });
}

async function refuseWithoutMail(tx: Tx): Promise<void> {
  if (!(await mailSettings(tx)))
    throw new Problem(
      "request.conflict",
      "No mail server is set up, so nothing can be sent. Set one up in Runs, Messages.",
    );
}

const sideOf = (context: Context) => (isClientRole(context.person!.role) ? "client" : "provider");

/** Statements: reading them, what is written to their exceptions, and the ways in which they get to the client. */
export const statements = [
  operation({
    id: "readStatement",
    method: "GET",
    path: "/clients/{clientId}/statement",
    summary: "The statement of a client for a period, as JSON, CSV or PDF.",
    caller: "statement",
    params: clientParam,
    query: z.object({ from: day.optional(), to: day.optional(), format, paper }),
    answer: z.object({ statement: shape.statement }),
    media: ["text/csv", "application/pdf"],
    run: async (context, { params, query }) => {
      const { client, statement } = await context.tx(async (tx) => {
        const client = await theClient(tx, params.clientId);
        const period = periodOf(client, query.from, query.to, context.who.at);
        return { client, statement: await clientStatement(tx, client, period, context.who.at) };
      });
      // as the program: a reader may take it along and write nothing, and the trail tells it all the same
      return context.services.db.withScope({ role: "system" }, async (tx) => {
        if (query.format !== "json")
          await context.record(tx, client.id, "downloaded a statement", client.name, {
            from: statement.firstDay,
            to: statement.lastDay,
            format: query.format,
          });
        return answered(tx, client, statement, query, context.who.at);
      });
    },
  }),
  operation({
    id: "readUsage",
    method: "GET",
    path: "/usage",
    summary: "Usage in a period, for invoices: by client, kind and depot, as JSON or CSV.",
    caller: "look",
    query: z.object({
      clientId: uuid.optional(),
      from: day.optional(),
      to: day.optional(),
      format: z.enum(["json", "csv"]).default("json"),
    }),
    answer: z.object({ usage: shape.usage }),
    media: ["text/csv"],
    run: async (context, { query }) => {
      const usage = await context.tx((tx) =>
        usageOf(tx, query.clientId ?? null, query.from, query.to, context.who.at),
      );
      if (query.format === "json") return { usage };
      return new Response(usageCsv(usage), {
        headers: {
          "content-type": "text/csv; charset=utf-8",
          "content-disposition": `attachment; filename="usage-${usage.firstDay}-${usage.lastDay}.csv"`,
          "cache-control": "no-store",
        },
      });
    },
  }),
  operation({
    id: "addStatementNote",
    method: "POST",
    path: "/clients/{clientId}/statement/words",
    summary: "Add a note to an exception of the statement, named by its key and first day.",
    caller: "words",
    status: 201,
    params: clientParam,
    body: z.object({
      about: z.string().min(1).max(1000),
      day,
      text: z
        .string()
        .trim()
        .min(3, "Describe the action taken in a sentence.")
        .max(1000, "1,000 characters at most."),
    }),
    answer: z.object({
      word: shape.statementWord,
    }),
    run: (context, { params, body }) =>
      context.tx(async (tx) => {
        const client = await theClient(tx, params.clientId);
        const period = periodOf(client, body.day, body.day, context.who.at);
        const { exceptions } = await clientStatement(tx, client, period, context.who.at);
        if (!exceptions.some((exception) => exception.key === body.about))
          throw invalid("about", "There is no such exception on that day.");
        const word = {
          id: randomUUID(),
          about: body.about,
          day: body.day,
          side: sideOf(context),
          by: context.who.actor,
          at: context.who.at,
          text: body.text,
        } as const;
        await insertWord(tx, client.id, word);
        await context.record(tx, client.id, "added a note to the statement", client.name, {
          about: body.about,
          day: body.day,
          text: body.text,
        });
        return { word };
      }),
  }),
  operation({
    id: "removeStatementNote",
    method: "DELETE",
    path: "/clients/{clientId}/statement/words/{id}",
    summary: "Remove a note of your side from the statement.",
    caller: "words",
    params: within,
    answer: z.object({}),
    run: (context, { params }) =>
      context.tx(async (tx) => {
        const word = await takeBackWord(tx, params.clientId, params.id, sideOf(context), context.who.at);
        if (!word) throw notFound();
        const client = await theClient(tx, params.clientId);
        await context.record(tx, client.id, "removed a note from the statement", client.name, {
          about: word.about,
          text: word.text,
        });
        return {};
      }),
  }),
  operation({
    id: "readStatementWays",
    method: "GET",
    path: "/clients/{clientId}/statement/ways",
    summary: "The schedule and recipients of a client's statement, and its links.",
    caller: "look",
    params: clientParam,
    answer: z.object({ sending: shape.sendingRow.nullable(), links: shape.list(shape.statementLink) }),
    run: (context, { params }) =>
      context.tx(async (tx) => {
        await theClient(tx, params.clientId);
        return {
          sending: await sendingOf(tx, params.clientId),
          links: await linksOf(tx, params.clientId, context.who.at),
        };
      }),
  }),
  operation({
    id: "sendStatement",
    method: "POST",
    path: "/clients/{clientId}/statement/send",
    summary: "Send the statement of a period by mail, as PDF.",
    caller: "work",
    status: 202,
    params: clientParam,
    body: z.object({ from: day.optional(), to: day.optional(), recipients, paper }),
    answer: z.object({ recipients: shape.list(z.string()) }),
    run: (context, { params, body }) =>
      context.tx(async (tx) => {
        const client = await theClient(tx, params.clientId);
        await refuseWithoutMail(tx);
        const period = periodOf(client, body.from, body.to, context.who.at);
        const { firstDay, lastDay } = await clientStatement(tx, client, period, context.who.at);
        await sendStatement(tx, client, { firstDay, lastDay }, body.recipients, body.paper, context.who.at);
        await context.record(tx, client.id, "sent a statement", client.name, {
          from: firstDay,
          to: lastDay,
          recipients: body.recipients,
        });
        return { recipients: body.recipients };
      }),
  }),
  operation({
    id: "setStatementSending",
    method: "PUT",
    path: "/clients/{clientId}/statement/sending",
    summary: "Send a client's statement on a schedule: every week or every month.",
    caller: "work",
    params: clientParam,
    body: z
      .object({
        every: z.enum(["week", "month"]),
        onDay: z.int("A whole number.").min(1, "1 at least."),
        at: z.string().regex(/^([01]\d|2[0-3]):[0-5]\d$/, "Enter a time as HH:MM."),
        recipients,
        paper,
      })
      .refine((body) => body.onDay <= (body.every === "week" ? 7 : 28), {
        path: ["onDay"],
        message: "A weekday from 1 to 7, or a day from 1 to 28, which every month has.",
      }),
    answer: z.object({
      sending: z.object({
        clientId: z.string(),
        nextAt: shape.moment,
        setBy: z.string(),
        every: z.enum(["week", "month"]),
        onDay: z.number(),
        at: z.string(),
        recipients: shape.list(z.string()),
        paper: z.enum(["a4", "letter"]),
      }),
    }),
    run: (context, { params, body }) =>
      context.tx(async (tx) => {
        const client = await theClient(tx, params.clientId);
        await refuseWithoutMail(tx);
        const nextAt = nextSending(body, client.zone, context.who.at);
        const row = { ...body, clientId: client.id, nextAt, setBy: context.who.actor };
        await setSending(tx, row, context.who.at);
        await context.record(tx, client.id, "scheduled statements", client.name, { ...body });
        return { sending: row };
      }),
  }),
  operation({
    id: "stopStatementSending",
    method: "DELETE",
    path: "/clients/{clientId}/statement/sending",
    summary: "Stop the scheduled sending of a client's statement.",
    caller: "work",
    params: clientParam,
    answer: z.object({}),
    run: (context, { params }) =>
      context.tx(async (tx) => {
        const client = await theClient(tx, params.clientId);
        if ((await endSending(tx, client.id)) === 0) throw notFound();
        await context.record(tx, client.id, "stopped scheduled statements", client.name);
        return {};
      }),
  }),
  operation({
    id: "createStatementLink",
    shownOnce: ["url"],
    method: "POST",
    path: "/clients/{clientId}/statement/links",
    summary: "Create a link to the statement of a period that needs no account. It is shown once.",
    caller: "work",
    status: 201,
    params: clientParam,
    body: z.object({
      from: day.optional(),
      to: day.optional(),
      days: z.int("A whole number.").min(1, "One day at least.").max(366, "366 days at most.").default(30),
    }),
    answer: z.object({
      link: z.object({
        id: z.string(),
        clientId: z.string(),
        firstDay: z.string(),
        lastDay: z.string(),
        madeBy: z.string(),
        madeAt: shape.moment,
        expiresAt: shape.moment,
      }),
      url: z.string(),
    }),
    run: (context, { params, body }) =>
      context.tx(async (tx) => {
        const client = await theClient(tx, params.clientId);
        const period = periodOf(client, body.from, body.to, context.who.at);
        const { firstDay, lastDay } = await clientStatement(tx, client, period, context.who.at);
        const secret = randomSecret();
        const link = {
          id: randomUUID(),
          clientId: client.id,
          firstDay,
          lastDay,
          madeBy: context.who.actor,
          madeAt: context.who.at,
          expiresAt: new Date(context.who.at.getTime() + body.days * 86_400_000),
        };
        await insertLink(tx, hashSecret(secret), link);
        await context.record(tx, client.id, "created a link to a statement", client.name, {
          from: firstDay,
          to: lastDay,
          until: link.expiresAt,
        });
        return { link, url: `${originOf(context.request)}/statement/${secret}` };
      }),
  }),
  operation({
    id: "revokeStatementLink",
    method: "DELETE",
    path: "/clients/{clientId}/statement/links/{id}",
    summary: "Revoke a link to a statement.",
    caller: "work",
    params: within,
    answer: z.object({}),
    run: (context, { params }) =>
      context.tx(async (tx) => {
        const link = await endLink(tx, params.clientId, params.id, context.who.at);
        if (!link) throw notFound();
        const client = await theClient(tx, params.clientId);
        await context.record(tx, client.id, "revoked a link to a statement", client.name, {
          from: link.firstDay,
          to: link.lastDay,
        });
        return {};
      }),
  }),
  operation({
    id: "openStatementLink",
    method: "GET",
    path: "/statement-links/{secret}",
    summary: "The statement of a link. No account is needed.",
    caller: "anyone",
    params: z.object({ secret: z.string().min(20).max(200) }),
    query: z.object({ format, paper }),
    answer: z.object({ statement: shape.statement }),
    media: ["text/csv", "application/pdf"],
    run: async (context, { params, query }) => {
      const opened = await statementOfLink(context.services, context.who, params.secret);
      if (!opened) throw notFound();
      const { client, statement } = opened;
      return context.services.db.withScope({ role: "system" }, (tx) =>
        answered(tx, client, statement, query, context.who.at),
      );
    },
  }),
];
