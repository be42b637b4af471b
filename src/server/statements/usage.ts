import { DateTime } from "luxon";
import { type DayUsed, everyDay } from "@/core/consequences/filling";
import type { ClientId, DepotId } from "@/core/ids";
import { compareContracts } from "@/core/usage/contract";
import { composeUsage, type Usage } from "@/core/usage/usage";
import type { Tx } from "@/db/base/scope";
import { readProvider } from "@/db/clients/clients";
import { countsBetween, listContracts, noteCounts } from "@/db/clients/contracts";
import { notedDays, noteUsage, usageBetween, usedByDay } from "@/db/clients/usage";
import type { Services } from "../base/services";
import { periodOf } from "./statement";

const zoneOf = async (tx: Tx): Promise<string> => (await readProvider(tx))?.zone ?? "UTC";

/** Writes down what every client uses now as today's usage. */
export const noteTodaysUsage = (services: Services): Promise<number> =>
  services.db.withScope({ role: "system" }, async (tx) => {
    const today = DateTime.fromJSDate(services.now(), { zone: await zoneOf(tx) }).toISODate()!;
    await noteCounts(tx, today);
    return noteUsage(tx, today);
  });

/** The usage of a period, of one client or of all. Days are the provider's. Throws problems of the fields. */
export async function usageOf(
  tx: Tx,
  clientId: ClientId | null,
  from: string | undefined,
  to: string | undefined,
  now: Date,
): Promise<Usage> {
  const zone = await zoneOf(tx);
  const period = periodOf({ zone }, from, to, now);
  const dayOf = (moment: Date) => DateTime.fromJSDate(moment, { zone }).toISODate()!;
  const [firstDay, lastDay] = [dayOf(period.from), dayOf(new Date(period.to.getTime() - 1))];
  const days = await usageBetween(tx, clientId, firstDay, lastDay);
  const contracts = compareContracts(
    await countsBetween(tx, clientId, firstDay, lastDay),
    await listContracts(tx, clientId),
  );
  return composeUsage(days, await notedDays(tx, firstDay, lastDay), firstDay, lastDay, contracts);
}

/**
 * What a depot held at the end of each of the past days, gaps filled, and now; of one client, or of all. The last is today, which
 * is not over.
 */
export async function fillingOf(
  tx: Tx,
  depotId: DepotId,
  clientId: ClientId | null,
  used: number,
  days: number,
  now: Date,
): Promise<DayUsed[]> {
  const today = DateTime.fromJSDate(now, { zone: await zoneOf(tx) });
  const [first, last] = [today.minus({ days }).toISODate()!, today.minus({ days: 1 }).toISODate()!];
  const noted = await usedByDay(tx, depotId, clientId, first, last);
  return everyDay([...noted, { day: today.toISODate()!, used }]);
}
