import { randomUUID } from "node:crypto";
import {
  type LastingCause,
  type NoticeCause,
  noticeSubject,
  noticeText,
  type Told,
} from "@/core/notices/text";
import type { Tx } from "@/db/base/scope";
import {
  anythingToTell,
  type DueNotice,
  dueNotices,
  insertMessage,
  markNotified,
  markNotSent,
  markSent,
  messageToSend,
  setNextTry,
} from "@/db/notices/notices";
import type { Services } from "@/server/base/services";
import { withLink } from "@/server/notices/message-link";
import { send, wayOf } from "@/server/notices/sending";

/** Attempts to send a message; the pauses between them double, from half a minute on: about an hour in all. */
const ATTEMPTS = 8;
const FIRST_PAUSE_MS = 30_000;

const groupsOf = <T>(items: readonly T[], keyOf: (item: T) => string): T[][] => {
  const groups = new Map<string, T[]>();
  for (const item of items) {
    const key = keyOf(item);
    const there = groups.get(key);
    if (there) there.push(item);
    else groups.set(key, [item]);
  }
  return [...groups.values()];
};

const causesOf = (events: readonly DueNotice[]): NoticeCause[] =>
  groupsOf(events, (event) => event.cause).map((group) => ({
    outcome: group[0]!.outcome,
    code: group[0]!.code,
    sources: [...new Set(group.map((event) => event.sourceName))].sort(),
    first: group[0]!.at,
    last: group.at(-1)!.at,
  }));

/**
 * Makes messages of events whose time has come: one for each cause, or one of all for a digest. What was told before
 * and lasts makes none by itself; a digest that goes out for something else says in a line that it is still so.
 */
async function makeMessages(tx: Tx, now: Date): Promise<number> {
  const due = await dueNotices(tx, now);
  let made = 0;
  const told = (events: readonly DueNotice[], messageId: string) =>
    markNotified(
      tx,
      events.map((event) => event.id),
      messageId,
    );
  const lasting = due.filter((event) => event.toldBy);
  for (const events of groupsOf(lasting, (event) => event.toldBy!)) await told(events, events[0]!.toldBy!);
  const fresh = due.filter((event) => !event.toldBy);
  const keyOf = (event: DueNotice) =>
    `${event.recipient} ${event.clientId} ${event.digest ? "digest" : event.cause}`;
  for (const events of groupsOf(fresh, keyOf)) {
    const { clientId, clientName, zone, recipient, digest } = events[0]!;
    const key = keyOf(events[0]!);
    const message: Told = {
      clientName,
      zone,
      causes: causesOf(events),
      lasting: digest ? lastingOf(lasting.filter((event) => keyOf(event) === key)) : [],
    };
    const id = randomUUID();
    await insertMessage(
      tx,
      {
        id,
        clientId,
        recipient,
        subject: noticeSubject(message),
        body: recipient.startsWith("mail:") ? noticeText(message) : webhookBody(message, events, now),
      },
      now,
    );
    await told(events, id);
    made += 1;
  }
  return made;
}

const lastingOf = (events: readonly DueNotice[]): LastingCause[] =>
  groupsOf(events, (event) => event.cause).map((group) => ({
    ...causesOf(group)[0]!,
    toldAt: group[0]!.toldAt!,
  }));

/** What a ticket system gets: the same as the mail says, in parts. */
const webhookBody = (told: Told, events: readonly DueNotice[], now: Date): string =>
  JSON.stringify({
    type: "runs.ended",
    timestamp: now.toISOString(),
    data: {
      client: { id: events[0]!.clientId, name: told.clientName },
      subject: noticeSubject(told),
      text: noticeText(told),
      causes: groupsOf(events, (event) => event.cause).map((group) => ({
        outcome: group[0]!.outcome,
        code: group[0]!.code,
        runs: group.map((event) => ({
          id: event.runId,
          source: event.sourceName,
          at: event.at.toISOString(),
        })),
      })),
      lasting: told.lasting.map(({ outcome, code, sources, toldAt }) => ({
        outcome,
        code,
        sources,
        toldAt: toldAt.toISOString(),
      })),
    },
  });

/** Sends what is to be sent, one after another; returns how many were taken. */
async function sendMessages(services: Services): Promise<number> {
  let sent = 0;
  for (;;) {
    const now = services.now();
    const taken = await services.db.withScope({ role: "system" }, async (tx) => {
      const message = await messageToSend(tx, now);
      if (!message) return null;
      // while it is being sent nobody else takes it; a sender that dies leaves it for the next try
      const pause = FIRST_PAUSE_MS * 2 ** message.attempts;
      await setNextTry(tx, message.id, new Date(now.getTime() + pause));
      return { message, pause, way: await wayOf(services, tx, message.recipient) };
    });
    if (!taken) return sent;
    const { message, way, pause } = taken;
    const failed = await send(way, withLink(services.secrets, message), now).then(
      () => null,
      (error: Error) => error,
    );
    await services.db.withScope({ role: "system" }, async (tx) => {
      if (!failed) {
        await markSent(tx, message.id, services.now());
        return;
      }
      const last = message.attempts + 1 >= ATTEMPTS;
      const next = last ? null : new Date(services.now().getTime() + pause);
      await markNotSent(tx, message.id, failed.message, next, services.now());
    });
    if (!failed) sent += 1;
  }
}

/** Tells everybody what they are to hear by now. */
export async function sendNotices(services: Services): Promise<{ made: number; sent: number }> {
  const now = services.now();
  const there = await services.db.withScope({ role: "system" }, (tx) => anythingToTell(tx, now));
  if (!there) return { made: 0, sent: 0 };
  const made = await services.db.withScope({ role: "system" }, (tx) => makeMessages(tx, now));
  return { made, sent: await sendMessages(services) };
}
