import type { DayUsed } from "@/core/consequences/filling";
import type { ClientId, DepotId } from "@/core/ids";
import type { UsageDay } from "@/core/usage/usage";
import { all, change, one, type Tx } from "../base/scope";

/** Writes down what is used now as what was used on a day (`YYYY-MM-DD`); the last word of a day counts. */
export const noteUsage = (tx: Tx, day: string) =>
  change(
    tx,
    `with noted as (insert into usage_noted (day) values ($1::date) on conflict do nothing)
     insert into usage_days (day, client_id, depot_id, kind, sources, protected_bytes, stored_bytes)
     select $1::date, client_id, depot_id, kind, count(*), sum(newest),
       coalesce(round(used_bytes * sum(added) / nullif(sum(sum(added)) over (partition by client_id, depot_id), 0)), 0)::bigint
     from (select p.client_id, p.depot_id, s.kind, p.source_id, sum(p.added_bytes) as added, (array_agg(p.bytes order by p.moment desc))[1] as newest
       from placed_points p join sources s on s.id = p.source_id where p.purged_at is null group by 1, 2, 3, 4) p
     join grants g using (client_id, depot_id) group by client_id, depot_id, kind, used_bytes
     on conflict (day, client_id, depot_id, kind) do update set sources = excluded.sources, protected_bytes = excluded.protected_bytes,
       stored_bytes = excluded.stored_bytes`,
    [day],
  );

/** What was used on the days of a period, both ends included; of one client, or of all. */
export const usageBetween = (tx: Tx, clientId: ClientId | null, firstDay: string, lastDay: string) =>
  all<UsageDay>(
    tx,
    `select to_char(u.day, 'YYYY-MM-DD') as day, u.client_id as "clientId", c.name as "clientName", u.kind, u.depot_id as "depotId",
       d.name as "depotName", u.sources, u.protected_bytes as "protectedBytes", u.stored_bytes as "storedBytes"
     from usage_days u join clients c on c.id = u.client_id join depots d on d.id = u.depot_id
     where u.day between $2::date and $3::date and ($1::uuid is null or u.client_id = $1)`,
    [clientId, firstDay, lastDay],
  );

/** On how many days of a period, both ends included, usage was written down: the same whichever clients are asked for. */
export const notedDays = async (tx: Tx, firstDay: string, lastDay: string): Promise<number> =>
  (await one<{ days: number }>(
    tx,
    "select count(*)::int as days from usage_noted where day between $1::date and $2::date",
    [firstDay, lastDay],
  ))!.days;

/** What was used of a depot at the end of each noted day of a period, both ends included; by one client, or by all. */
export const usedByDay = (
  tx: Tx,
  depotId: DepotId,
  clientId: ClientId | null,
  firstDay: string,
  lastDay: string,
) =>
  all<DayUsed>(
    tx,
    `select to_char(day, 'YYYY-MM-DD') as day, sum(stored_bytes) as used from usage_days
     where depot_id = $1 and ($2::uuid is null or client_id = $2) and day between $3::date and $4::date group by usage_days.day order by usage_days.day`,
    [depotId, clientId, firstDay, lastDay],
  );
