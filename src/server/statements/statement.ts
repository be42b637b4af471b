import { DateTime } from "luxon";
import { CODES } from "@/core/codes";
import { composeStatement, type Statement } from "@/core/statement/statement";
import type { Tx } from "@/db/base/scope";
import type { Client } from "@/db/clients/clients";
import { listGrants } from "@/db/depots/depots";
import {
  alarmsBetween,
  checksBetween,
  pointsByDay,
  restoresBetween,
  runsByDay,
  sourcesBefore,
  wordsBetween,
} from "@/db/notices/statements";
import { addedBetween } from "@/db/points/points";
import { drillsBetween } from "@/db/runs/drills";
import { sourceStandings } from "@/db/sources/sources";
import { invalid } from "../base/problem";

const MAX_DAYS = 400;

/** The days of a statement, both ends included, as moments in the zone of the client, or of whoever it is for. Without a wish: the last 30 days. */
export function periodOf(
  client: Pick<Client, "zone">,
  from: string | undefined,
  to: string | undefined,
  now: Date,
): { from: Date; to: Date } {
  const day = (text: string, field: string) => {
    const parsed = DateTime.fromISO(text, { zone: client.zone });
    if (!parsed.isValid || !/^\d{4}-\d{2}-\d{2}$/.test(text))
      throw invalid(field, "Enter a day as YYYY-MM-DD.");
    if (parsed.year < 1970 || parsed.year > 2200)
      throw invalid(field, "Enter a day from 1970-01-01 to 2200-12-31.");
    return parsed.startOf("day");
  };
  const last = to ? day(to, "to") : DateTime.fromJSDate(now, { zone: client.zone }).startOf("day");
  const first = from ? day(from, "from") : last.minus({ days: 29 });
  if (first > last) throw invalid("from", "The first day is after the last.");
  if (last.diff(first, "days").days > MAX_DAYS)
    throw invalid("from", `A statement covers ${MAX_DAYS} days at most.`);
  return { from: first.toJSDate(), to: last.plus({ days: 1 }).startOf("day").toJSDate() };
}

/** The statement of a client for a period; states are those of now, or of the period's end when it is over. */
export async function clientStatement(
  tx: Tx,
  client: Client,
  period: { from: Date; to: Date },
  now: Date,
): Promise<Statement> {
  const { from, to } = period;
  const sources = await sourceStandings(tx, { clientId: client.id }, now);
  const before = new Map(
    (await sourcesBefore(tx, client.id, from)).map(({ sourceId, ...rest }) => [sourceId, rest]),
  );
  const added = new Map(
    (await addedBetween(tx, client.id, from, to)).map((row) => [row.sourceId, row.added]),
  );
  const grants = (await listGrants(tx)).filter((grant) => grant.clientId === client.id);
  const runs = await runsByDay(tx, client.id, client.zone, from, to);
  const restores = await restoresBetween(tx, client.id, from, to);
  const [firstDay, lastDay] = [from, new Date(to.getTime() - 1)].map(
    (moment) => DateTime.fromJSDate(moment, { zone: client.zone }).toISODate()!,
  ) as [string, string];
  return composeStatement({
    clientName: client.name,
    zone: client.zone,
    ...period,
    now,
    sources: sources.map((source) => ({
      id: source.id,
      name: source.name,
      site: source.siteName,
      state: source.state,
      targetHours: source.targetHours,
      newestPoint: source.newestPoint,
      points: source.points,
      bytes: source.bytes,
      added: added.get(source.id) ?? 0,
      ...before.get(source.id)!,
    })),
    runs: runs.map(({ code, message, ...run }) => ({ ...run, cause: code ? CODES[code].title : message })),
    pointDays: await pointsByDay(tx, client.id, client.zone, from, to),
    restores: restores.map(({ figures, ...restore }) => ({
      ...restore,
      items: Number(figures.files ?? 0),
      bytes: Number(figures.bytes ?? 0),
    })),
    checks: await checksBetween(tx, client.id, from, to),
    drills: (await drillsBetween(tx, client.id, from, to)).map(({ code, ...drill }) => ({
      ...drill,
      cause: code ? CODES[code].title : null,
    })),
    words: await wordsBetween(tx, client.id, firstDay, lastDay),
    alarms: (await alarmsBetween(tx, client.id, from, to)).map(({ evidence, ...alarm }) => ({
      ...alarm,
      changedShare: evidence.changedShare,
      denserShare: evidence.denserShare,
      folder: evidence.folder,
      before: evidence.beforeMoment ? new Date(evidence.beforeMoment) : null,
    })),
    spaceUsed: grants.reduce((sum, grant) => sum + grant.usedBytes, 0),
    quota: grants.length ? grants.reduce((sum, grant) => sum + grant.quotaBytes, 0) : null,
  });
}

/** A name for the file of a statement. */
export const statementFile = (
  client: Client,
  statement: Pick<Statement, "firstDay" | "lastDay">,
  ending: "csv" | "pdf",
): string => `statement-${client.slug}-${statement.firstDay}-${statement.lastDay}.${ending}`;
