import type { Code } from "@/core/codes";
import type { DrillFigures } from "@/core/drill/drill";
import type { ClientId, DepotId, RunId, SourceId } from "@/core/ids";
import type { Outcome } from "@/core/protection/state";
import { all, allPlanned, one, type Tx } from "../base/scope";

export interface Drill {
  readonly runId: RunId;
  readonly sourceId: SourceId;
  readonly at: Date;
  readonly outcome: Outcome;
  readonly code: Code | null;
  readonly figures: Partial<DrillFigures>;
}
const DRILL = `r.id as "runId", r.source_id as "sourceId", coalesce(r.ended_at, r.due_at) as at, r.outcome, r.code, r.figures`;

/**
 * Sources whose next drill is due, longest without one first: Conduct asks for drills, there has been a point for a day,
 * the key can be used, and none was asked for since as many days as Conduct says.
 */
export const sourcesToDrill = (tx: Tx, now: Date, limit: number) =>
  all<{ id: string; clientId: ClientId }>(
    tx,
    `select s.id, s.client_id as "clientId" from sources s join source_summaries u on u.source_id = s.id
     join client_keys k on k.client_id = s.client_id and k.confirmed_at is not null and k.destroyed_at is null
     left join lateral (select max(due_at) as at from runs r where r.source_id = s.id and r.kind = 'drill') last on true
     where s.rules->'conduct'->>'drillDays' is not null and not s.paused and u.oldest_point < $1::timestamptz - interval '1 day'
       and (last.at is null or last.at <= $1::timestamptz - make_interval(days => (s.rules->'conduct'->>'drillDays')::int))
     order by last.at nulls first, s.id limit $2`,
    [now, limit],
  );

/** A drill of the source that has not ended. */
export const openDrill = (tx: Tx, sourceId: SourceId) =>
  one<{ id: string }>(
    tx,
    "select id from runs where source_id = $1 and kind = 'drill' and state <> 'ended' limit 1",
    [sourceId],
  );
/** How many drills of a source ended before. */
export const countDrills = async (tx: Tx, sourceId: SourceId) =>
  (await one<{ count: number }>(
    tx,
    "select count(*)::int as count from runs where source_id = $1 and kind = 'drill' and state = 'ended'",
    [sourceId],
  ))!.count;
/** The newest drill of a source that came to an end by itself. */
export const lastDrill = (tx: Tx, sourceId: SourceId) =>
  one<Drill>(
    tx,
    `select ${DRILL} from runs r where r.source_id = $1 and r.kind = 'drill' and r.state = 'ended' and r.outcome <> 'stopped'
     order by r.due_at desc limit 1`,
    [sourceId],
  );

/** Clients for whom the runner has drills to do, longest waiting first. */
export const clientsWithDrills = async (tx: Tx, now: Date) =>
  (
    await all<{ clientId: ClientId }>(
      tx,
      `select client_id as "clientId" from runs where kind = 'drill' and state = 'due' and due_at <= $1
       group by client_id order by min(due_at)`,
      [now],
    )
  ).map((row) => row.clientId);

export const drillsBetween = (tx: Tx, clientId: ClientId, from: Date, to: Date) =>
  all<Drill>(
    tx,
    `select ${DRILL} from runs r where r.client_id = $1 and r.kind = 'drill' and r.state = 'ended' and r.outcome <> 'stopped'
       and r.due_at >= $2 and r.due_at < $3 order by r.due_at desc`,
    [clientId, from, to],
  );

/** Sources whose newest drill failed. */
export const failedDrills = (tx: Tx, clientId: ClientId | null) =>
  allPlanned<Drill & { readonly depotId: DepotId | null; readonly depotName: string | null }>(
    tx,
    "failed drills",
    `select ${DRILL}, d.id as "depotId", d.name as "depotName" from runs r left join depots d on d.id = (r.request->>'depotId')::uuid
     where r.kind = 'drill' and r.state = 'ended' and r.outcome = 'failed' and ($1::uuid is null or r.client_id = $1)
       and not exists (select from runs o where o.source_id = r.source_id and o.kind = 'drill' and o.state = 'ended'
         and o.outcome <> 'stopped' and o.due_at > r.due_at)
       and exists (select from points p where p.source_id = r.source_id)
     order by r.due_at desc`,
    [clientId],
  );
