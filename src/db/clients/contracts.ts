import type { ClientId } from "@/core/ids";
import type { Contract, ContractKind, DayCount } from "@/core/usage/contract";
import { all, change, type Tx } from "../base/scope";

/** What clients have bought, and how many of their sources are protected. */

export async function contractOf(tx: Tx, clientId: ClientId): Promise<Contract> {
  const rows = await all<{ kind: ContractKind; sources: number }>(
    tx,
    "select kind, sources from contracts where client_id = $1",
    [clientId],
  );
  return Object.fromEntries(rows.map(({ kind, sources }) => [kind, sources]));
}

export async function setContract(tx: Tx, clientId: ClientId, contract: Contract): Promise<void> {
  await change(tx, "delete from contracts where client_id = $1", [clientId]);
  await change(
    tx,
    "insert into contracts (client_id, kind, sources) select $1, kind, sources::int from jsonb_each_text($2) as bought(kind, sources)",
    [clientId, JSON.stringify(contract)],
  );
}

/** The contracts of one client, or of all; clients without one have none in it. */
export const listContracts = (tx: Tx, clientId: ClientId | null) =>
  all<{ clientId: ClientId; clientName: string; contract: Contract }>(
    tx,
    `select c.id as "clientId", c.name as "clientName", jsonb_object_agg(b.kind, b.sources) as contract
     from contracts b join clients c on c.id = b.client_id where $1::uuid is null or c.id = $1 group by c.id, c.name`,
    [clientId],
  );

/** Sources that are protected: there, and with a policy. Those that were removed only keep their points. */
const PROTECTED = `sources s left join machines m on m.id = s.machine_id left join connections cn on cn.id = s.connection_id
  where s.policy_id is not null and s.vanished_at is null and (s.machine_id is not null or s.connection_id is not null)
    and m.gone_at is null and cn.gone_at is null`;

/** Kinds of which more sources are protected now than were bought; of one client, or of all. */
export const exceededContracts = (tx: Tx, clientId: ClientId | null) =>
  all<{ clientId: ClientId; clientName: string; kind: ContractKind; contracted: number; sources: number }>(
    tx,
    `select c.id as "clientId", c.name as "clientName", b.kind, b.sources as contracted, used.sources
     from contracts b join clients c on c.id = b.client_id
     join (select s.client_id, s.kind, count(*)::int as sources from ${PROTECTED} group by s.client_id, s.kind) used
       on used.client_id = b.client_id and used.kind = b.kind
     where used.sources > b.sources and ($1::uuid is null or c.id = $1) order by c.name, b.kind`,
    [clientId],
  );

/** Notes how many sources of each kind are protected now as the count of a day (`YYYY-MM-DD`): the most seen on it counts. */
export const noteCounts = (tx: Tx, day: string) =>
  change(
    tx,
    `insert into usage_counts (day, client_id, kind, sources)
     select $1::date, s.client_id, s.kind, count(*) from ${PROTECTED} group by s.client_id, s.kind
     on conflict (day, client_id, kind) do update set sources = greatest(usage_counts.sources, excluded.sources)`,
    [day],
  );

/** The counts of the days of a period, both ends included; of one client, or of all. */
export const countsBetween = (tx: Tx, clientId: ClientId | null, firstDay: string, lastDay: string) =>
  all<DayCount>(
    tx,
    `select to_char(u.day, 'YYYY-MM-DD') as day, u.client_id as "clientId", c.name as "clientName", u.kind, u.sources
     from usage_counts u join clients c on c.id = u.client_id
     where u.day between $2::date and $3::date and ($1::uuid is null or u.client_id = $1)`,
    [clientId, firstDay, lastDay],
  );
