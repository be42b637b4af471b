import type { Code } from "@/core/codes";
import type { ClientId, RunId, SourceId } from "@/core/ids";
import type { Outcome } from "@/core/protection/state";
import type { Position } from "../base/cursor";
import { all, change, one, type Tx } from "../base/scope";

/** A run of which somebody is to hear. */
export interface NoticeEvent {
  readonly clientId: ClientId;
  readonly sourceId: SourceId;
  readonly runId: RunId;
  /** `mail:` and an address, or `webhook:` and an id. */
  readonly recipient: string;
  readonly cause: string;
  readonly outcome: Outcome;
  readonly code: Code | null;
  readonly at: Date;
  readonly dueAt: Date;
  readonly digest: boolean;
}

export const insertNoticeEvents = (tx: Tx, events: readonly NoticeEvent[]) =>
  change(
    tx,
    `insert into notice_events (client_id, source_id, run_id, recipient, cause, outcome, code, at, due_at, digest)
     select * from unnest($1::uuid[], $2::uuid[], $3::uuid[], $4::text[], $5::text[], $6::text[], $7::text[], $8::timestamptz[], $9::timestamptz[], $10::bool[])`,
    [
      events.map((event) => event.clientId),
      events.map((event) => event.sourceId),
      events.map((event) => event.runId),
      events.map((event) => event.recipient),
      events.map((event) => event.cause),
      events.map((event) => event.outcome),
      events.map((event) => event.code),
      events.map((event) => event.at),
      events.map((event) => event.dueAt),
      events.map((event) => event.digest),
    ],
  );

export interface DueNotice extends NoticeEvent {
  readonly id: number;
  readonly sourceName: string;
  readonly clientName: string;
  readonly zone: string;
  /** The message that told the same cause before, while it lasts and is not to be called to mind again. */
  readonly toldBy: string | null;
  readonly toldAt: Date | null;
}

/** A cause that lasts is told once, and called to mind when it was not told for so long. */
const TOLD_ENOUGH = "7 days";
/** Runs that end clean are nobody's trouble: who wants to hear of them hears once a day, or in each digest. */
const CLEAN_ENOUGH = "24 hours";

/** Events whose time has come and those of the same cause that came since, locked against other tellers. */
export const dueNotices = (tx: Tx, now: Date) =>
  all<DueNotice>(
    tx,
    `select e.id, e.client_id as "clientId", e.source_id as "sourceId", e.run_id as "runId", e.recipient, e.cause, e.outcome, e.code, e.at,
       e.due_at as "dueAt", e.digest, s.name as "sourceName", c.name as "clientName", c.zone, told.id as "toldBy", told.made_at as "toldAt"
     from notice_events e join sources s on s.id = e.source_id join clients c on c.id = e.client_id
     left join lateral (
       select m.id, m.made_at from notice_events t join messages m on m.id = t.message_id
       where t.recipient = e.recipient and t.cause = e.cause
         and m.made_at > e.at - case when e.outcome <> 'clean' then interval '${TOLD_ENOUGH}' when e.digest then interval '0' else interval '${CLEAN_ENOUGH}' end
         and not exists (select from runs r where r.source_id = e.source_id and r.kind = 'backup' and r.outcome = 'clean' and r.ended_at > t.at and r.ended_at < e.at)
       order by t.at desc limit 1) told on true
     where e.message_id is null and exists (select from notice_events d
       where d.message_id is null and d.due_at <= $1 and d.recipient = e.recipient and (d.cause = e.cause or (d.digest and e.digest and e.due_at <= $1)))
     order by e.recipient, e.client_id, e.at limit 5000 for update of e skip locked`,
    [now],
  );
export const markNotified = (tx: Tx, ids: readonly number[], messageId: string) =>
  change(tx, "update notice_events set message_id = $2 where id = any($1)", [ids, messageId]);
export const anythingToTell = async (tx: Tx, now: Date) =>
  (await one<{ there: boolean }>(
    tx,
    `select exists (select from notice_events where message_id is null and due_at <= $1)
       or exists (select from messages where next_try_at <= $1) as there`,
    [now],
  ))!.there;

/** What goes out. */
export interface Message {
  readonly id: string;
  readonly clientId: ClientId | null;
  readonly recipient: string;
  readonly subject: string;
  readonly body: string;
  readonly attachments: readonly MessageAttachment[];
  /** A link that grants power, sealed; null once the message is sent or given up. */
  readonly sealedLink: Buffer | null;
  readonly madeAt: Date;
  readonly attempts: number;
  readonly nextTryAt: Date | null;
  readonly sentAt: Date | null;
  readonly givenUpAt: Date | null;
  readonly error: string | null;
}
export interface MessageAttachment {
  readonly name: string;
  readonly type: string;
  /** Base64. */
  readonly content: string;
}
/** A message as it is shown: without what it held for its recipient alone. */
export type ListedMessage = Omit<Message, "sealedLink">;
const MESSAGE = `id, client_id as "clientId", recipient, subject, body, attachments, made_at as "madeAt", attempts, next_try_at as "nextTryAt",
  sent_at as "sentAt", given_up_at as "givenUpAt", error`;

export const insertMessage = (
  tx: Tx,
  message: Pick<Message, "id" | "clientId" | "recipient" | "subject" | "body"> &
    Partial<Pick<Message, "attachments" | "sealedLink">>,
  now: Date,
) =>
  change(
    tx,
    `insert into messages (id, client_id, recipient, subject, body, attachments, made_at, next_try_at, sealed_link)
     values ($1, $2, $3, $4, $5, $6, $7, $7, $8)`,
    [
      message.id,
      message.clientId,
      message.recipient,
      message.subject,
      message.body,
      JSON.stringify(message.attachments ?? []),
      now,
      message.sealedLink ?? null,
    ],
  );
/** One message whose time has come, locked against other senders. */
export const messageToSend = (tx: Tx, now: Date) =>
  one<Message>(
    tx,
    `select ${MESSAGE}, sealed_link as "sealedLink" from messages where next_try_at <= $1 order by next_try_at limit 1 for update skip locked`,
    [now],
  );
export const messageById = (tx: Tx, id: string) =>
  one<ListedMessage>(tx, `select ${MESSAGE} from messages where id = $1`, [id]);
export const listMessages = (
  tx: Tx,
  clientId: ClientId | null,
  limit: number,
  after: Position | null = null,
) =>
  all<ListedMessage>(
    tx,
    `select ${MESSAGE} from messages where ($1::uuid is null or client_id = $1)
       and ($3::timestamptz is null or (made_at, id) < ($3, $4::uuid)) order by made_at desc, id desc limit $2`,
    [clientId, limit, after?.at ?? null, after?.id ?? null],
  );
export const markSent = (tx: Tx, id: string, now: Date) =>
  change(
    tx,
    "update messages set sent_at = $2, next_try_at = null, attempts = attempts + 1, error = null, sealed_link = null where id = $1",
    [id, now],
  );
export const markNotSent = (tx: Tx, id: string, error: string, nextTryAt: Date | null, now: Date) =>
  change(
    tx,
    `update messages set attempts = attempts + 1, error = $2, next_try_at = $3, given_up_at = case when $3::timestamptz is null then $4::timestamptz end,
       sealed_link = case when $3::timestamptz is not null then sealed_link end where id = $1`,
    [id, error, nextTryAt, now],
  );
/** Messages that were given up since a moment: to whom, since when, and what the last was refused with; null for none. */
export const unsentSince = (tx: Tx, clientId: ClientId | null, since: Date) =>
  one<{ count: number; recipients: string[]; since: Date; error: string }>(
    tx,
    `select count(*)::int as count, array_agg(distinct coalesce(w.name, substr(m.recipient, strpos(m.recipient, ':') + 1))) as recipients,
       min(m.given_up_at) as since, coalesce((array_agg(m.error order by m.given_up_at desc))[1], '') as error
     from messages m left join webhooks w on m.recipient = 'webhook:' || w.id
     where m.given_up_at > $2 and ($1::uuid is null or m.client_id = $1) having count(*) > 0`,
    [clientId, since],
  );
export const sendAgain = (tx: Tx, id: string, now: Date) =>
  change(
    tx,
    "update messages set next_try_at = $2, given_up_at = null, attempts = 0 where id = $1 and sent_at is null",
    [id, now],
  );

export interface Webhook {
  readonly id: string;
  readonly name: string;
  readonly url: string;
  readonly secret: Buffer;
}
const WEBHOOK = "id, name, url, secret";
export const listWebhooks = (tx: Tx) =>
  all<Webhook>(tx, `select ${WEBHOOK} from webhooks where removed_at is null order by name`);
export const webhookById = (tx: Tx, id: string) =>
  one<Webhook>(tx, `select ${WEBHOOK} from webhooks where id = $1 and removed_at is null`, [id]);
export const insertWebhook = (tx: Tx, webhook: Webhook, by: string, now: Date) =>
  change(
    tx,
    "insert into webhooks (id, name, url, secret, created_at, created_by) values ($1, $2, $3, $4, $5, $6)",
    [webhook.id, webhook.name, webhook.url, webhook.secret, now, by],
  );
export const removeWebhook = (tx: Tx, id: string, now: Date) =>
  change(
    tx,
    "update webhooks set removed_at = $2, name = name || ' (' || id || ')' where id = $1 and removed_at is null",
    [id, now],
  );
export const setWebhookUrl = (tx: Tx, id: string, url: string) =>
  change(tx, "update webhooks set url = $2 where id = $1", [id, url]);

/** How mail leaves. */
export interface MailSettingsRow {
  readonly host: string;
  readonly port: number;
  readonly security: "none" | "tls" | "starttls";
  readonly username: string | null;
  /** Sealed with the master key. */
  readonly password: Buffer | null;
  readonly sender: string;
}
export const mailSettings = (tx: Tx) =>
  one<MailSettingsRow>(tx, "select host, port, security, username, password, sender from mail_settings");
export const setMailSettings = (tx: Tx, settings: MailSettingsRow, by: string, now: Date) =>
  change(
    tx,
    `insert into mail_settings (host, port, security, username, password, sender, changed_at, changed_by) values ($1, $2, $3, $4, $5, $6, $7, $8)
     on conflict (one) do update set host = $1, port = $2, security = $3, username = $4, password = $5, sender = $6, changed_at = $7, changed_by = $8`,
    [
      settings.host,
      settings.port,
      settings.security,
      settings.username,
      settings.password,
      settings.sender,
      now,
      by,
    ],
  );
export const setMailPort = (tx: Tx, from: number, to: number) =>
  change(tx, "update mail_settings set port = $2 where port = $1 and host = '127.0.0.1'", [from, to]);

export const setNextTry = (tx: Tx, id: string, at: Date) =>
  change(tx, "update messages set next_try_at = $2 where id = $1", [id, at]);
