import type { Message } from "@/db/notices/notices";
import type { Secrets } from "@/store/seal/secrets";

/**
 * Links in messages that grant power: sealed beside the message until it is sent, then gone. What is kept and shown of the
 * message has this in their place.
 */
export const LINK = "[one-time address, not kept]";

/** What the seal of a message's link says that it is. */
export const linkContext = (messageId: string): string => `link of message ${messageId}`;

export const sealLink = (secrets: Secrets, messageId: string, url: string): Buffer =>
  secrets.seal(Buffer.from(url, "utf8"), linkContext(messageId));

/** The message as it goes out. */
export function withLink<M extends Pick<Message, "id" | "body" | "sealedLink">>(
  secrets: Secrets,
  message: M,
): M {
  if (!message.sealedLink) return message;
  const url = secrets.unseal(message.sealedLink, linkContext(message.id)).toString("utf8");
  return { ...message, body: message.body.replace(LINK, () => url) };
}
