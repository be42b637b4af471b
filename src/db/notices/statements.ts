import type { Code } from "@/core/codes";
import type { ClientId, SourceId } from "@/core/ids";
import type { Outcome } from "@/core/protection/state";
import type { StatementWord } from "@/core/statement/statement";
import { all, change, one, type Tx } from "../base/scope";
import type { BurstEvidence } from "../points/holds";

/** Backup runs of a client by source, day of a zone, and how they ended. */
export const runsByDay = (tx: Tx, clientId: ClientId, zone: string, from: Date, to: Date) =>
  all<{
    sourceId: SourceId;
    day: string;
    outcome: Outcome;
    code: Code | null;
    message: string | null;
    count: number;
    last: Date;
  }>(
    tx,
    `select source_id as "sourceId", to_char(due_at at time zone $2, 'YYYY-MM-DD') as day, outcome, code,
       case when code is null and outcome <> 'clean' then message end as message, count(*)::int as count, max(due_at) as last
     from runs where client_id = $1 and kind = 'backup' and state = 'ended' and due_at >= $3 and due_at < $4
     group by 1, 2, 3, 4, 5`,
    [clientId, zone, from, to],
  );

/** The newest point that each source of a client got on each day of a zone, also those that are gone since. */
export const pointsByDay = (tx: Tx, clientId: ClientId, zone: string, from: Date, to: Date) =>
  all<{ sourceId: SourceId; day: string; newest: Date }>(
    tx,
    `select source_id as "sourceId", to_char(moment at time zone $2, 'YYYY-MM-DD') as day, max(moment) as newest
     from points where client_id = $1 and moment >= $3 and moment < $4 group by 1, 2`,
    [clientId, zone, from, to],
  );

/** How each source of a client stood when a period began, since when it is looked after, and when it runs next. */
export const sourcesBefore = (tx: Tx, clientId: ClientId, at: Date) =>
  all<{
    sourceId: SourceId;
    since: Date;
    newestBefore: Date | null;
    outcomeBefore: Outcome | null;
    nextRun: Date | null;
  }>(
    tx,
    `select s.id as "sourceId", s.created_at as since, p.moment as "newestBefore", r.outcome as "outcomeBefore", s.next_due_at as "nextRun"
     from sources s
     left join lateral (select moment from points where source_id = s.id and moment < $2 order by moment desc limit 1) p on true
     left join lateral (select outcome from runs where source_id = s.id and kind = 'backup' and state = 'ended' and outcome <> 'stopped'
       and due_at < $2 order by due_at desc limit 1) r on true
     where s.client_id = $1`,
    [clientId, at],
  );

export const restoresBetween = (tx: Tx, clientId: ClientId, from: Date, to: Date) =>
  all<{
    sourceId: SourceId;
    at: Date;
    outcome: Outcome;
    figures: Readonly<Record<string, number>>;
    by: string | null;
  }>(
    tx,
    `select source_id as "sourceId", coalesce(ended_at, due_at) as at, outcome, figures, requested_by as by
     from runs where client_id = $1 and kind = 'restore' and state = 'ended' and due_at >= $2 and due_at < $3
     order by due_at desc limit 1000`,
    [clientId, from, to],
  );

export const checksBetween = (tx: Tx, clientId: ClientId, from: Date, to: Date) =>
  all<{ at: Date; outcome: "clean" | "damage" | "failed" }>(
    tx,
    `select ended_at as at, outcome from checks where client_id = $1 and ended_at >= $2 and ended_at < $3 order by ended_at`,
    [clientId, from, to],
  );

const WORD = `id, about, to_char(day, 'YYYY-MM-DD') as day, side, by, at, text`;
export const wordsBetween = (tx: Tx, clientId: ClientId, firstDay: string, lastDay: string) =>
  all<StatementWord>(
    tx,
    `select ${WORD} from statement_words where client_id = $1 and taken_back_at is null and day between $2 and $3 order by at`,
    [clientId, firstDay, lastDay],
  );
export const insertWord = (tx: Tx, clientId: ClientId, word: StatementWord) =>
  change(
    tx,
    "insert into statement_words (id, client_id, about, day, side, by, at, text) values ($1, $2, $3, $4, $5, $6, $7, $8)",
    [word.id, clientId, word.about, word.day, word.side, word.by, word.at, word.text],
  );
/** Takes back what one's own side wrote. */
export const takeBackWord = (
  tx: Tx,
  clientId: ClientId,
  id: string,
  side: StatementWord["side"],
  now: Date,
) =>
  one<StatementWord>(
    tx,
    `update statement_words set taken_back_at = $4 where client_id = $1 and id = $2 and side = $3 and taken_back_at is null returning ${WORD}`,
    [clientId, id, side, now],
  );

export type Paper = "a4" | "letter";
/** To whom a client's statement goes by itself, and when. */
export interface SendingRow {
  readonly clientId: ClientId;
  readonly every: "week" | "month";
  readonly onDay: number;
  readonly at: string;
  readonly recipients: readonly string[];
  readonly paper: Paper;
  readonly nextAt: Date;
  readonly setBy: string;
}
const SENDING = `client_id as "clientId", every, on_day as "onDay", at_time as at, recipients, paper, next_at as "nextAt", set_by as "setBy"`;
export const sendingOf = (tx: Tx, clientId: ClientId) =>
  one<SendingRow>(tx, `select ${SENDING} from statement_schedules where client_id = $1`, [clientId]);
export const setSending = (tx: Tx, row: SendingRow, now: Date) =>
  change(
    tx,
    `insert into statement_schedules (client_id, every, on_day, at_time, recipients, paper, next_at, set_by, set_at)
     values ($1, $2, $3, $4, $5, $6, $7, $8, $9)
     on conflict (client_id) do update set every = $2, on_day = $3, at_time = $4, recipients = $5, paper = $6, next_at = $7, set_by = $8, set_at = $9`,
    [row.clientId, row.every, row.onDay, row.at, row.recipients, row.paper, row.nextAt, row.setBy, now],
  );
export const endSending = (tx: Tx, clientId: ClientId) =>
  change(tx, "delete from statement_schedules where client_id = $1", [clientId]);
/** One client whose statement is due, locked against other senders. */
export const dueSending = (tx: Tx, now: Date) =>
  one<SendingRow>(
    tx,
    `select ${SENDING} from statement_schedules where next_at <= $1 order by next_at limit 1 for update skip locked`,
    [now],
  );
export const noteSent = (tx: Tx, clientId: ClientId, nextAt: Date) =>
  change(tx, "update statement_schedules set next_at = $2 where client_id = $1", [clientId, nextAt]);

/** Alarms of a client that stood at some time of a period. */
export const alarmsBetween = (tx: Tx, clientId: ClientId, from: Date, to: Date) =>
  all<{
    sourceId: SourceId;
    at: Date;
    liftedAt: Date | null;
    liftedBy: string | null;
    evidence: BurstEvidence;
  }>(
    tx,
    `select source_id as "sourceId", placed_at as at, lifted_at as "liftedAt", lifted_by as "liftedBy", evidence from holds
     where client_id = $1 and evidence is not null and placed_at < $3 and (lifted_at is null or lifted_at >= $2) order by placed_at`,
    [clientId, from, to],
  );

/** An address that opens one statement without an account. */
export interface StatementLink {
  readonly id: string;
  readonly clientId: ClientId;
  readonly firstDay: string;
  readonly lastDay: string;
  readonly madeBy: string;
  readonly madeAt: Date;
  readonly expiresAt: Date;
  readonly opened: number;
  readonly openedAt: Date | null;
}
const LINK = `id, client_id as "clientId", to_char(first_day, 'YYYY-MM-DD') as "firstDay", to_char(last_day, 'YYYY-MM-DD') as "lastDay",
  made_by as "madeBy", made_at as "madeAt", expires_at as "expiresAt", opened, opened_at as "openedAt"`;
export const linksOf = (tx: Tx, clientId: ClientId, now: Date) =>
  all<StatementLink>(
    tx,
    `select ${LINK} from statement_links where client_id = $1 and ended_at is null and expires_at > $2 order by made_at desc`,
    [clientId, now],
  );
export const insertLink = (tx: Tx, secretHash: Buffer, link: Omit<StatementLink, "opened" | "openedAt">) =>
  change(
    tx,
    `insert into statement_links (id, secret_hash, client_id, first_day, last_day, made_by, made_at, expires_at)
     values ($1, $2, $3, $4, $5, $6, $7, $8)`,
    [
      link.id,
      secretHash,
      link.clientId,
      link.firstDay,
      link.lastDay,
      link.madeBy,
      link.madeAt,
      link.expiresAt,
    ],
  );
export const endLink = (tx: Tx, clientId: ClientId, id: string, now: Date) =>
  one<StatementLink>(
    tx,
    `update statement_links set ended_at = $3 where client_id = $1 and id = $2 and ended_at is null returning ${LINK}`,
    [clientId, id, now],
  );
/** Opens a link that is still good, and counts it. */
export const openLink = (tx: Tx, secretHash: Buffer, now: Date) =>
  one<StatementLink>(
    tx,
    `update statement_links set opened = opened + 1, opened_at = $2
     where secret_hash = $1 and ended_at is null and expires_at > $2 returning ${LINK}`,
    [secretHash, now],
  );

/** Notes that a statement was put on its way. */
export const noteStatementSent = (
  tx: Tx,
  clientId: ClientId,
  days: { readonly firstDay: string; readonly lastDay: string },
  recipients: readonly string[],
  now: Date,
) =>
  change(
    tx,
    "insert into statements_sent (client_id, sent_at, first_day, last_day, recipients) values ($1, $2, $3, $4, $5)",
    [clientId, now, days.firstDay, days.lastDay, recipients],
  );

/** How a client's statements get to it: the last that was sent, the next, and how often its links were opened. */
export interface StatementDelivery {
  readonly clientId: ClientId;
  readonly every: "week" | "month" | null;
  readonly nextAt: Date | null;
  readonly sentAt: Date | null;
  readonly recipients: readonly string[] | null;
  readonly opened: number;
  readonly openedAt: Date | null;
}
export const statementDeliveries = (tx: Tx) =>
  all<StatementDelivery>(
    tx,
    `select c.id as "clientId", s.every, s.next_at as "nextAt", sent.sent_at as "sentAt", sent.recipients,
       coalesce(l.opened, 0)::int as opened, l.opened_at as "openedAt"
     from clients c left join statement_schedules s on s.client_id = c.id
     left join lateral (select sent_at, recipients from statements_sent where client_id = c.id order by sent_at desc limit 1) sent on true
     left join (select client_id, sum(opened) as opened, max(opened_at) as opened_at from statement_links group by client_id) l on l.client_id = c.id`,
  );
