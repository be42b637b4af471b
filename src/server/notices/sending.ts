import { isIP } from "node:net";
import { createTransport } from "nodemailer";
import { Webhook as Signer } from "standardwebhooks";
import type { Tx } from "@/db/base/scope";
import { type MailSettingsRow, type Message, mailSettings, webhookById } from "@/db/notices/notices";
import { allowedAddress, fetchAllowed } from "@/store/places/reach";
import type { Services } from "../base/services";

/** Sends messages: mail by SMTP (RFC 5321), webhooks signed as Standard Webhooks has it. */

const TIMEOUT_MS = 15_000;
export const MAIL_CONTEXT = "mail password";
export const webhookContext = (id: string): string => `webhook ${id}`;

/** What sending needs, read in a transaction that is over before anything is sent. */
export type Way =
  | {
      readonly kind: "mail";
      readonly settings: MailSettingsRow;
      readonly password: string | null;
      readonly to: string;
    }
  | { readonly kind: "webhook"; readonly url: string; readonly secret: string }
  | { readonly kind: "none"; readonly why: string };

export async function wayOf(services: Pick<Services, "secrets">, tx: Tx, recipient: string): Promise<Way> {
  const [kind, to] = [
    recipient.slice(0, recipient.indexOf(":")),
    recipient.slice(recipient.indexOf(":") + 1),
  ];
  if (kind === "mail") {
    const settings = await mailSettings(tx);
    if (!settings) return { kind: "none", why: "No mail server is set up; set one up in Runs, Messages." };
    const password = settings.password
      ? services.secrets.unseal(settings.password, MAIL_CONTEXT).toString("utf8")
      : null;
    return { kind: "mail", settings, password, to };
  }
  const webhook = await webhookById(tx, to);
  if (!webhook) return { kind: "none", why: "This webhook was removed." };
  return {
    kind: "webhook",
    url: webhook.url,
    secret: services.secrets.unseal(webhook.secret, webhookContext(webhook.id)).toString("utf8"),
  };
}

/** Sends one message. Throws an error with words for a person when it was not taken. */
export async function send(
  way: Way,
  message: Pick<Message, "id" | "subject" | "body" | "attachments">,
  now: Date,
): Promise<void> {
  if (way.kind === "none") throw new Error(way.why);
  if (way.kind === "webhook") return post(way, message, now);
  const { settings, password, to } = way;
  const transport = createTransport({
    host: await allowedAddress(settings.host),
    ...(isIP(settings.host) ? {} : { tls: { servername: settings.host } }),
    port: settings.port,
    secure: settings.security === "tls",
    requireTLS: settings.security === "starttls",
    ignoreTLS: settings.security === "none",
    ...(settings.username && password !== null ? { auth: { user: settings.username, pass: password } } : {}),
    connectionTimeout: TIMEOUT_MS,
    greetingTimeout: TIMEOUT_MS,
    socketTimeout: TIMEOUT_MS,
  });
  try {
    await transport.sendMail({
      from: settings.sender,
      to,
      subject: message.subject,
      text: message.body,
      date: now,
      // the same message again, after an answer that was lost, is known by its id
      messageId: `<${message.id}@${settings.sender.split("@").at(-1)?.replace(/>$/, "")}>`,
      headers: { "Auto-Submitted": "auto-generated" },
      attachments: message.attachments.map(({ name, type, content }) => ({
        filename: name,
        contentType: type,
        content: Buffer.from(content, "base64"),
      })),
    });
  } finally {
    transport.close();
  }
}

async function post(
  { url, secret }: Extract<Way, { kind: "webhook" }>,
  { id, body }: Pick<Message, "id" | "body">,
  now: Date,
): Promise<void> {
  const signature = new Signer(secret).sign(id, now, body);
  const response = await fetchAllowed(url, {
    method: "POST",
    redirect: "error",
    signal: AbortSignal.timeout(TIMEOUT_MS),
    headers: {
      "content-type": "application/json",
      "webhook-id": id,
      "webhook-timestamp": String(Math.floor(now.getTime() / 1000)),
      "webhook-signature": signature,
    },
    body,
  });
  await response.body?.cancel();
  if (!response.ok) throw new Error(`${new URL(url).host} answers ${response.status}`);
}
