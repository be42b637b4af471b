import { randomBytes, randomUUID } from "node:crypto";
import { z } from "zod";
import { pageOf } from "@/db/base/cursor";
import {
  insertWebhook,
  listMessages,
  listWebhooks,
  mailSettings,
  messageById,
  removeWebhook,
  sendAgain,
  setMailSettings,
  webhookById,
} from "@/db/notices/notices";
import { operation } from "@/server/api/operation";
import { cursorText } from "@/server/api/paging";
import { invalid, notFound, Problem } from "@/server/base/problem";
import { LINK } from "@/server/notices/message-link";
import { MAIL_CONTEXT, send, wayOf, webhookContext } from "@/server/notices/sending";
import * as shape from "../shapes";
import { hostName, name, positionIn, refuseAddress, scopeQuery, uuid } from "./ids";

const url = z
  .url("Enter an address such as https://tickets.example/hook.")
  .max(500)
  .refine(
    (text) => URL.canParse(text) && /^https?:$/.test(new URL(text).protocol),
    "A webhook answers at http or https.",
  )
  .refine(
    (text) => URL.canParse(text) && !new URL(text).username,
    "Leave name and password out of the address; messages are signed.",
  );

const mailBody = z.object({
  host: hostName,
  port: z.number().int("A whole number.").min(1, "From 1 to 65535.").max(65_535, "From 1 to 65535."),
  security: z.enum(["none", "tls", "starttls"]),
  username: z.string().trim().max(200).nullable().default(null),
  /** Left out: the one that is there stays. */
  password: z.string().max(500).nullable().optional(),
  sender: z.email("Enter the address that mail comes from."),
});

/** Messages: how they leave, and which left. Secrets are never shown again. */
export const messages = [
  operation({
    id: "readMailServer",
    method: "GET",
    path: "/mail-server",
    summary: "The mail server for outgoing messages, or null.",
    caller: "look",
    answer: z.union([
      z.object({ mailServer: z.null() }),
      z.object({
        mailServer: shape.mailServer,
      }),
    ]),
    run: (context) =>
      context.tx(async (tx) => {
        const there = await mailSettings(tx);
        if (!there) return { mailServer: null };
        const { password, ...rest } = there;
        return { mailServer: { ...rest, hasPassword: password !== null } };
      }),
  }),
  operation({
    id: "setMailServer",
    method: "PUT",
    path: "/mail-server",
    summary: "Set the mail server for outgoing messages.",
    caller: "provider-work",
    body: mailBody,
    answer: z.object({
      mailServer: shape.mailServer,
    }),
    run: (context, { body }) =>
      context.tx(async (tx) => {
        refuseAddress("host", body.host);
        const there = await mailSettings(tx);
        const password =
          body.password === undefined
            ? (there?.password ?? null)
            : body.password === null || body.password === ""
              ? null
              : context.services.secrets.seal(Buffer.from(body.password, "utf8"), MAIL_CONTEXT);
        const { password: _, ...rest } = body;
        await setMailSettings(tx, { ...rest, password }, context.who.actor, context.who.at);
        await context.record(tx, null, "changed the mail server", body.host, { ...rest });
        return { mailServer: { ...rest, hasPassword: password !== null } };
      }),
  }),
  operation({
    id: "testMessage",
    method: "POST",
    path: "/messages/test",
    summary: "Send a test message and return the result.",
    caller: "provider-work",
    body: z
      .object({
        mail: z.email("Enter an address.").nullable().default(null),
        webhookId: uuid.nullable().default(null),
      })
      .refine((body) => (body.mail === null) !== (body.webhookId === null), "Name an address or a webhook."),
    answer: z.object({ sent: z.boolean() }),
    run: async (context, { body }) => {
      const recipient = body.mail ? `mail:${body.mail}` : `webhook:${body.webhookId}`;
      const way = await context.tx(async (tx) => {
        if (body.webhookId && !(await webhookById(tx, body.webhookId))) throw notFound();
        await context.record(tx, null, "sent a test message", body.mail ?? body.webhookId!);
        return wayOf(context.services, tx, recipient);
      });
      const subject = "A test message of Deep Keep";
      const text = `${context.who.actor} sent this to see whether it arrives. Nothing is to be done.`;
      try {
        await send(
          way,
          {
            id: randomUUID(),
            subject,
            body: body.mail
              ? `${text}\n`
              : JSON.stringify({
                  type: "test",
                  timestamp: context.who.at.toISOString(),
                  data: { subject, text },
                }),
            attachments: [],
          },
          context.who.at,
        );
      } catch (error) {
        throw new Problem("notice.not-sent", (error as Error).message);
      }
      return { sent: true };
    },
  }),
  operation({
    id: "listWebhooks",
    method: "GET",
    path: "/webhooks",
    summary: "Webhooks.",
    caller: "look",
    pages: { of: "webhooks" },
    answer: z.object({
      webhooks: shape.list(z.object({ id: z.string(), name: z.string(), url: z.string() })),
    }),
    run: (context) =>
      context.tx(async (tx) => ({
        webhooks: (await listWebhooks(tx)).map(({ secret: _, ...rest }) => rest),
      })),
  }),
  operation({
    id: "createWebhook",
    shownOnce: ["secret"],
    method: "POST",
    path: "/webhooks",
    summary: "Add a webhook. Its signing secret (Standard Webhooks) is shown once.",
    caller: "provider-work",
    status: 201,
    body: z.object({ name: name("a name for the webhook"), url }),
    answer: z.object({
      webhook: z.object({ name: z.string(), url: z.string(), id: z.string() }),
      secret: z.string(),
    }),
    run: (context, { body }) =>
      context.tx(async (tx) => {
        refuseAddress("url", new URL(body.url).hostname);
        if ((await listWebhooks(tx)).some((one) => one.name.toLowerCase() === body.name.toLowerCase()))
          throw invalid("name", "There is a webhook of this name.");
        const id = randomUUID();
        const secret = `whsec_${randomBytes(32).toString("base64")}`;
        await insertWebhook(
          tx,
          {
            id,
            ...body,
            secret: context.services.secrets.seal(Buffer.from(secret, "utf8"), webhookContext(id)),
          },
          context.who.actor,
          context.who.at,
        );
        await context.record(tx, null, "added a webhook", body.name, { url: body.url });
        return { webhook: { id, ...body }, secret };
      }),
  }),
  operation({
    id: "removeWebhook",
    method: "DELETE",
    path: "/webhooks/{webhookId}",
    summary: "Remove a webhook. Policies no longer send to it.",
    caller: "provider-work",
    params: z.object({ webhookId: uuid }),
    answer: z.object({ removed: z.string() }),
    run: (context, { params }) =>
      context.tx(async (tx) => {
        const webhook = await webhookById(tx, params.webhookId);
        if (!webhook) throw notFound();
        await removeWebhook(tx, webhook.id, context.who.at);
        await context.record(tx, null, "removed a webhook", webhook.name);
        return { removed: webhook.id };
      }),
  }),
  operation({
    id: "listMessages",
    method: "GET",
    path: "/messages",
    summary: "Messages, sent or failed, newest first, in pages: `next` is the cursor of the next page.",
    caller: "look",
    query: scopeQuery.pick({ client: true }).extend({
      cursor: cursorText,
      limit: z.coerce.number().int().min(1).max(500).default(100),
    }),
    answer: z.object({
      messages: shape.list(
        z.object({
          attachments: shape.list(z.string()),
          error: z.string().nullable(),
          id: z.string(),
          body: z.string(),
          clientId: z.string().nullable(),
          madeAt: shape.moment,
          recipient: z.string(),
          subject: z.string(),
          attempts: z.number(),
          nextTryAt: shape.moment.nullable(),
          sentAt: shape.moment.nullable(),
          givenUpAt: shape.moment.nullable(),
        }),
      ),
      next: z.string().nullable(),
    }),
    run: (context, { query }) =>
      context.tx(async (tx) => {
        const after = await positionIn(tx, "messages", query.cursor);
        const { page, next } = pageOf(
          await listMessages(tx, query.client ?? null, query.limit + 1, after),
          query.limit,
        );
        const messages = page.map(({ attachments, ...rest }) => ({
          ...rest,
          attachments: attachments.map((one) => one.name),
        }));
        return { messages, next };
      }),
  }),
  operation({
    id: "sendAgain",
    method: "POST",
    path: "/messages/{messageId}/send",
    summary: "Send a failed message again.",
    caller: "work",
    params: z.object({ messageId: uuid }),
    answer: z.object({ message: z.object({ id: z.string() }) }),
    run: (context, { params }) =>
      context.tx(async (tx) => {
        const message = await messageById(tx, params.messageId);
        if (!message) throw notFound();
        if (message.body.includes(LINK))
          throw new Problem(
            "request.conflict",
            "The one-time link of this message is not stored. Send a new invitation instead.",
          );
        if ((await sendAgain(tx, message.id, context.who.at)) === 0)
          throw new Problem("request.conflict", "This message was sent already.");
        await context.record(tx, message.clientId, "sent a message again", message.subject);
        return { message: { id: message.id } };
      }),
  }),
];
