import { randomUUID } from "node:crypto";
import type { Person } from "@/db/access/people";
import { insertInvitation } from "@/db/access/sessions";
import type { Tx } from "@/db/base/scope";
import { zoneFor } from "@/db/clients/clients";
import { insertMessage, mailSettings } from "@/db/notices/notices";
import { hashSecret, randomSecret, type Secrets } from "@/store/seal/secrets";
import { momentText } from "../inside/moment-label";
import { LINK, sealLink } from "../notices/message-link";
import type { Who } from "./who";

export const INVITATION_DAYS = 7;

/** An invitation as its maker sees it, this once. */
export interface MadeInvitation {
  readonly url: string;
  readonly expiresAt: Date;
  /** Whether it also goes by mail. */
  readonly mailed: boolean;
}

/** Makes an invitation to choose a password; those before are void. It goes by mail where a mail server is set up. */
export async function invite(
  tx: Tx,
  secrets: Secrets,
  who: Who,
  person: Pick<Person, "id" | "clientId" | "email" | "name">,
  origin: string,
): Promise<MadeInvitation> {
  const secret = randomSecret();
  const expiresAt = new Date(who.at.getTime() + INVITATION_DAYS * 86_400_000);
  await insertInvitation(tx, hashSecret(secret), person.id, who.actor, who.at, expiresAt);
  const zone = await zoneFor(tx, person.clientId);
  const url = `${origin}/invitation/${secret}`;
  const messageId = randomUUID();
  const mailed = (await mailSettings(tx)) !== null;
  if (mailed)
    await insertMessage(
      tx,
      {
        id: messageId,
        clientId: person.clientId,
        recipient: `mail:${person.email}`,
        subject: "Deep Keep: your sign-in",
        // the address goes into the mail when it is sent, and is kept nowhere
        sealedLink: sealLink(secrets, messageId, url),
        body: `${person.name},\n\n${who.actor} has invited you to Deep Keep. Set your password here:\n\n  ${LINK}\n\nThe link works once, until ${momentText(expiresAt, zone)} (${zone}). If you did not expect this, do nothing.\n`,
      },
      who.at,
    );
  return { url, expiresAt, mailed };
}

/** The console's own address, as whoever asked sees it. */
export function originOf(request: Request): string {
  const url = new URL(request.url);
  const host = request.headers.get("x-forwarded-host") ?? request.headers.get("host") ?? url.host;
  const protocol = request.headers.get("x-forwarded-proto") ?? url.protocol.replace(":", "");
  return `${protocol.split(",")[0]!.trim()}://${host}`;
}
