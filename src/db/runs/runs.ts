import type { Code } from "@/core/codes";
import type { ClientId, MachineId, PersonId, RunId, SiteId, SourceId } from "@/core/ids";
import type { NightCount } from "@/core/protection/nights";
import type { Outcome } from "@/core/protection/state";
import type { Rates } from "@/core/units/rates";
import { lockInTx } from "../base/advisory-locks";
import type { Position } from "../base/cursor";
import { all, allPlanned, change, one, onePlanned, type Tx } from "../base/scope";
import type { StandingFilter } from "../sources/sources";

export type RunKind = "backup" | "restore" | "drill";
export type RunState = "due" | "claimed" | "reading" | "closing" | "ended";

export interface RunProgress {
  /** Items and bytes passed so far; totals are what the last recovery point had, or what the basket holds. */
  readonly items?: number;
  readonly bytes?: number;
  readonly totalItems?: number;
  readonly totalBytes?: number;
  /** Bytes a second over the last report. */
  readonly rate?: number;
  readonly stored?: number;
  /** How fast it went, from its beginning. */
  readonly rates?: Rates;
}

export interface Run {
  readonly id: RunId;
  readonly clientId: ClientId;
  readonly sourceId: SourceId;
  /** The machine whose agent executes it; null when the runner does. */
  readonly machineId: MachineId | null;
  readonly kind: RunKind;
  readonly cause: "schedule" | "person" | "retry" | "after";
  readonly requestedBy: string | null;
  readonly dueAt: Date;
  readonly state: RunState;
  readonly outcome: Outcome | null;
  readonly code: Code | null;
  readonly message: string | null;
  readonly attempt: number;
  readonly leaseUntil: Date | null;
  readonly startedAt: Date | null;
  readonly endedAt: Date | null;
  readonly stopRequestedAt: Date | null;
  /** Until when it may go on: its window, or how long the policy lets it run. */
  readonly stopAt: Date | null;
  readonly request: Record<string, unknown>;
  readonly progress: RunProgress;
  readonly figures: Record<string, unknown>;
}

const RUN = `r.id, r.client_id as "clientId", r.source_id as "sourceId", r.machine_id as "machineId", r.kind, r.cause,
  r.requested_by as "requestedBy", r.due_at as "dueAt", r.state, r.outcome, r.code, r.message, r.attempt,
  r.lease_until as "leaseUntil", r.started_at as "startedAt", r.ended_at as "endedAt", r.stop_requested_at as "stopRequestedAt", r.stop_at as "stopAt",
  r.request, r.progress, r.figures`;

export const runById = (tx: Tx, id: RunId) => one<Run>(tx, `select ${RUN} from runs r where r.id = $1`, [id]);
/** The run, locked for the rest of the transaction. */
export const lockRun = (tx: Tx, id: RunId) =>
  one<Run>(tx, `select ${RUN} from runs r where r.id = $1 for update`, [id]);

export const insertRun = (
  tx: Tx,
  run: Pick<
    Run,
    "id" | "clientId" | "sourceId" | "machineId" | "kind" | "cause" | "requestedBy" | "dueAt" | "request"
  > & {
    /** One of a client's people, who asked for what was given to them. */
    readonly personId?: PersonId | null;
    readonly progress?: RunProgress;
  },
) =>
  change(
    tx,
    `insert into runs (id, client_id, source_id, machine_id, kind, cause, requested_by, due_at, request, person_id, progress)
     values ($1, $2, $3, $4, $5, $6, $7, $8, $9, $10, $11)`,
    [
      run.id,
      run.clientId,
      run.sourceId,
      run.machineId,
      run.kind,
      run.cause,
      run.requestedBy,
      run.dueAt,
      JSON.stringify(run.request),
      run.personId ?? null,
      JSON.stringify(run.progress ?? {}),
    ],
  );

/** A restore as the one of a client's people sees it who asked for it. */
export interface OwnRestore {
  readonly id: string;
  readonly sourceId: SourceId;
  readonly sourceName: string;
  /** Of the source. */
  readonly kind: string;
  readonly state: RunState;
  readonly outcome: Outcome | null;
  readonly code: Code | null;
  readonly dueAt: Date;
  readonly endedAt: Date | null;
  readonly progress: RunProgress;
  readonly figures: Record<string, unknown>;
  readonly request: Record<string, unknown>;
}
export const restoresOfPerson = (tx: Tx, personId: PersonId, since: Date) =>
  all<OwnRestore>(
    tx,
    `select r.id, r.source_id as "sourceId", s.name as "sourceName", s.kind, r.state, r.outcome, r.code, r.due_at as "dueAt", r.ended_at as "endedAt",
       r.progress, r.figures, r.request
     from runs r join sources s on s.id = r.source_id where r.person_id = $1 and r.due_at > $2 order by r.due_at desc limit 20`,
    [personId, since],
  );

/** Backups that nobody asked for by hand, many at once. */
export const insertDueRuns = (
  tx: Tx,
  runs: readonly Pick<Run, "id" | "clientId" | "sourceId" | "machineId" | "cause" | "dueAt" | "request">[],
) =>
  change(
    tx,
    `insert into runs (id, client_id, source_id, machine_id, kind, cause, due_at, request)
     select id, client_id, source_id, machine_id, 'backup', cause, due_at, request
     from unnest($1::uuid[], $2::uuid[], $3::uuid[], $4::uuid[], $5::text[], $6::timestamptz[], $7::jsonb[])
       r(id, client_id, source_id, machine_id, cause, due_at, request)`,
    [
      runs.map((run) => run.id),
      runs.map((run) => run.clientId),
      runs.map((run) => run.sourceId),
      runs.map((run) => run.machineId),
      runs.map((run) => run.cause),
      runs.map((run) => run.dueAt),
      runs.map((run) => JSON.stringify(run.request)),
    ],
  );

/** Scheduled runs due before a moment whose machine was not there then, where missed times are not made up for. */
export const passedByRuns = (tx: Tx, before: Date) =>
  all<Run>(
    tx,
    `select ${RUN} from runs r join sources s on s.id = r.source_id join machines m on m.id = r.machine_id
     where r.kind = 'backup' and r.state = 'due' and r.cause = 'schedule' and r.due_at < $1 and s.rules->'when'->>'missed' in ('next', 'note')
       and (m.seen_at is null or m.seen_at < r.due_at) for update of r skip locked`,
    [before],
  );

/** A backup of the source that queued, if there is one. */
export const waitingRun = (tx: Tx, sourceId: SourceId) =>
  one<Run>(
    tx,
    `select ${RUN} from runs r where r.source_id = $1 and r.kind = 'backup' and r.state = 'due' order by r.due_at limit 1`,
    [sourceId],
  );
export const runningRun = (tx: Tx, sourceId: SourceId) =>
  one<Run>(
    tx,
    `select ${RUN} from runs r where r.source_id = $1 and r.kind = 'backup' and r.state in ('claimed', 'reading', 'closing')`,
    [sourceId],
  );

const CLAIM_PAGE = 40;
/**
 * The next run that a machine (or the runner, null) may start: a source has one backup at a time. Locked against other
 * claimers. Those that wait are looked at in the order in which they are due, a page of an index at a time, so that ten
 * thousand that wait cost no more than the first that may begin.
 */
export async function nextClaimable(
  tx: Tx,
  machineId: MachineId | null,
  clientId: ClientId,
  kinds: readonly RunKind[],
  /** The kinds of source that the claimer reads; null: every kind. */
  sources: readonly string[] | null,
  now: Date,
): Promise<Run | null> {
  for (let [offset, page] = [0, CLAIM_PAGE]; ; offset += page, page *= 2) {
    const waiting = await all<{ id: string }>(
      tx,
      `select id from runs where machine_id ${machineId === null ? "is null and $1::uuid is null" : "= $1"} and client_id = $4 and state = 'due'
         and kind = any($2) and due_at <= $3 order by kind desc, due_at limit ${page} offset ${offset}`,
      [machineId, kinds, now, clientId],
    );
    if (waiting.length === 0) return null;
    const found = await one<Run>(
      tx,
      `select ${RUN} from runs r where r.id = any($1) and r.state = 'due'
         and (r.kind <> 'backup' or not exists (select from runs o where o.source_id = r.source_id and o.kind = 'backup' and o.state in ('claimed', 'reading', 'closing')))
         and (r.kind <> 'backup' or not exists (select from sources s
           where s.id = r.source_id and s.rules is not null and not exists (select from run_depots_of(s.rules->'where') d(id)
             where not exists (select from absences a where a.depot_id = d.id and a.from_at <= $2 and a.to_at > $2))))
         and (r.kind <> 'backup' or $3::text[] is null or exists (select from sources s where s.id = r.source_id and s.kind = any($3)))
         and (r.kind <> 'backup' or room_for(r.source_id))
       order by r.kind desc, r.due_at limit 1 for update of r skip locked`,
      [waiting.map((run) => run.id), now, sources],
    );
    if (found || waiting.length < page) return found;
  }
}

/**
 * Whether the run of a source may begin under the limits of client, site and depots. Where one bears on it, those who
 * claim under limits come one after another from here to the end of their transaction, so that none passes it by.
 */
export async function takeRoom(tx: Tx, sourceId: SourceId): Promise<boolean> {
  const found = await one<{ limited: boolean }>(tx, "select limited($1) as limited", [sourceId]);
  if (!found?.limited) return true;
  await lockInTx(tx, "claimsUnderLimits");
  return (await one<{ room: boolean }>(tx, "select room_for($1) as room", [sourceId]))?.room ?? true;
}

/** Whether the limits of client, site and depots leave room for a run of the source now. */
export const hasRoom = async (tx: Tx, sourceId: SourceId) =>
  (await one<{ room: boolean }>(tx, "select room_for($1) as room", [sourceId]))?.room ?? true;

/** Lets a run that waits for a later time begin now. */
export const bringForward = (tx: Tx, id: string, now: Date) =>
  change(tx, "update runs set due_at = $2 where id = $1 and state = 'due' and due_at > $2", [id, now]);

/** How many runs share the links of a client and of a site. */
export const linkSharing = async (tx: Tx, clientId: ClientId, siteId: SiteId) =>
  (await one<{ ofClient: number; ofSite: number }>(
    tx,
    `select of_client as "ofClient", of_site as "ofSite" from sharing($1, $2)`,
    [clientId, siteId],
  ))!;

/** Clients for whom the runner has runs to execute. */
export const clientsWithNetworkRuns = async (tx: Tx, now: Date) =>
  (
    await all<{ clientId: ClientId }>(
      tx,
      `select client_id as "clientId" from runs where machine_id is null and kind in ('backup', 'restore') and state = 'due' and due_at <= $1
       group by client_id order by min(due_at)`,
      [now],
    )
  ).map((row) => row.clientId);

export const claimRun = (tx: Tx, id: string, now: Date, leaseUntil: Date) =>
  change(
    tx,
    `update runs set state = 'claimed', attempt = attempt + 1, started_at = $2, lease_until = $3 where id = $1 and state = 'due'`,
    [id, now, leaseUntil],
  );
/** An agent says that it has a run within a second of getting it. */
const HEARD_MS = 5000;

/**
 * A run that was claimed for a machine some seconds ago and of which nothing has been heard since: the answer that gave it
 * was lost. It stays the same attempt.
 */
export const claimAgain = (
  tx: Tx,
  machineId: MachineId,
  kinds: readonly RunKind[],
  now: Date,
  leaseUntil: Date,
): Promise<Run | null> =>
  one<Run>(
    tx,
    `with again as (update runs set started_at = $3, lease_until = $4 where id = (
       select id from runs where machine_id = $1 and kind = any($2) and state = 'claimed' and started_at < $5
       limit 1 for update skip locked) returning id)
     select ${RUN} from runs r where r.id = (select id from again)`,
    [machineId, kinds, now, leaseUntil, new Date(now.getTime() - HEARD_MS)],
  );
export const setStopAt = (tx: Tx, id: string, stopAt: Date | null) =>
  change(tx, "update runs set stop_at = $2 where id = $1", [id, stopAt]);
export const extendLease = (tx: Tx, id: string, leaseUntil: Date, progress: RunProgress) =>
  change(
    tx,
    `update runs set lease_until = $2, progress = progress || $3::jsonb, state = case when state = 'claimed' then 'reading' else state end
     where id = $1 and state in ('claimed', 'reading', 'closing')`,
    [id, leaseUntil, JSON.stringify(progress)],
  );
export const requestStop = (tx: Tx, id: string, now: Date) =>
  change(
    tx,
    "update runs set stop_requested_at = coalesce(stop_requested_at, $2) where id = $1 and state <> 'ended'",
    [id, now],
  );

export interface RunEnd {
  readonly outcome: Outcome;
  readonly code: Code | null;
  readonly message: string | null;
  readonly figures: Record<string, unknown>;
}
export const endRun = (tx: Tx, id: string, end: RunEnd, now: Date) =>
  change(
    tx,
    `update runs set state = 'ended', outcome = $2, code = $3, message = $4, figures = $5, ended_at = $6, lease_until = null
     where id = $1 and state <> 'ended'`,
    [id, end.outcome, end.code, end.message, JSON.stringify(end.figures), now],
  );

/** Runs whose executor fell silent. */
export const lapsedRuns = (tx: Tx, now: Date) =>
  all<Run>(
    tx,
    `select ${RUN} from runs r where r.state in ('claimed', 'reading', 'closing') and r.lease_until < $1 for update skip locked`,
    [now],
  );
export const returnRun = (tx: Tx, id: string) =>
  change(tx, "update runs set state = 'due', lease_until = null, progress = '{}' where id = $1", [id]);

export interface RunRow extends Run {
  readonly sourceName: string;
  readonly sourceKind: string;
  /**
   * The machine, or the connection that the runner reads through; of a restore over the network the source that it goes to.
   * Null for what the runner does by itself.
   */
  readonly machineName: string | null;
  readonly clientName: string;
  readonly clientSlug: string;
}
const ROW = `${RUN}, s.name as "sourceName", s.kind as "sourceKind", coalesce(r.request->>'toName', m.name, cn.name) as "machineName", c.name as "clientName", c.slug as "clientSlug"`;
const ROW_FROM = `runs r join sources s on s.id = r.source_id join clients c on c.id = r.client_id
  left join machines m on m.id = r.machine_id left join connections cn on cn.id = s.connection_id`;
const IN_SCOPE =
  "($1::uuid is null or r.client_id = $1) and ($2::uuid is null or s.site_id = $2) and ($3::uuid is null or r.source_id = $3)";
const scopeValues = (filter: StandingFilter) => [
  filter.clientId ?? null,
  filter.siteId ?? null,
  filter.sourceId ?? null,
];

export const openRuns = (tx: Tx, filter: StandingFilter) =>
  all<RunRow>(
    tx,
    `select ${ROW} from ${ROW_FROM} where r.state <> 'ended' and ${IN_SCOPE} order by r.started_at nulls last, r.due_at`,
    scopeValues(filter),
  );

/** What may keep waiting runs of a source from beginning, as a list tells it. */
export interface WaitingFacts {
  readonly sourceId: SourceId;
  readonly machineSeen: Date | null;
  /** Where all its depots are away by plan: the one that is back first. */
  readonly awayDepot: string | null;
  readonly awayUntil: Date | null;
}
export const waitingFacts = async (tx: Tx, sourceIds: readonly string[], now: Date) =>
  new Map(
    (
      await all<WaitingFacts>(
        tx,
        `select s.id as "sourceId", m.seen_at as "machineSeen",
           case when away.every then away.depot end as "awayDepot", case when away.every then away.until end as "awayUntil"
         from sources s left join machines m on m.id = s.machine_id
         left join lateral (
           select bool_and(a.until is not null) as every, min(a.until) as until, (array_agg(d.name order by a.until))[1] as depot
           from run_depots_of(s.rules->'where') r(id) join depots d on d.id = r.id
           cross join lateral (select max(to_at) as until from absences where depot_id = r.id and from_at <= $2 and to_at > $2) a
         ) away on s.rules is not null
         where s.id = any($1)`,
        [sourceIds, now],
      )
    ).map((facts) => [facts.sourceId, facts]),
  );

export interface PastFilter extends StandingFilter {
  readonly outcome?: string | null;
  readonly kind?: string | null;
  readonly from?: Date | null;
  readonly to?: Date | null;
  /** After this run in the list. */
  readonly after?: Position | null;
  readonly limit: number;
}
export const pastRuns = (tx: Tx, filter: PastFilter) =>
  all<RunRow>(
    tx,
    // the page first: what stands beside a run is looked up for these alone
    `with page as materialized (
       select r.id from runs r where r.state = 'ended' and ($1::uuid is null or r.client_id = $1)
         and ($2::uuid is null or r.source_id in (select id from sources where site_id = $2)) and ($3::uuid is null or r.source_id = $3)
         and ($4::text is null or r.outcome = $4) and ($5::text is null or r.kind = $5)
         and ($6::timestamptz is null or r.due_at >= $6) and ($7::timestamptz is null or r.due_at < $7)
         and ($9::timestamptz is null or (r.due_at <= $9 and (r.due_at, r.id) < ($9, $10::uuid)))
       order by r.due_at desc, r.id desc limit $8)
     select ${ROW} from ${ROW_FROM} where r.id = any(array(select id from page)) order by r.due_at desc, r.id desc`,
    [
      ...scopeValues(filter),
      filter.outcome ?? null,
      filter.kind ?? null,
      filter.from ?? null,
      filter.to ?? null,
      filter.limit,
      filter.after?.at ?? null,
      filter.after?.id ?? null,
    ],
  );
export const runRow = (tx: Tx, id: string) =>
  onePlanned<RunRow>(tx, "a run's row", `select ${ROW} from ${ROW_FROM} where r.id = $1`, [id]);

const NIGHT_OUTCOMES = ["clean", "caution", "failed", "stopped", "missed"] as const;
/**
 * Runs by client, night and outcome. A night lasts from noon to noon in the client's zone: `core/protection/nights.ts`. Up
 * to a moment they are counted already (migration 0022); of a site or a source alone they are counted now.
 */
export const nightCounts = (tx: Tx, filter: StandingFilter, from: Date) =>
  filter.siteId || filter.sourceId
    ? all<NightCount>(
        tx,
        `select r.client_id as "clientId", to_char(night_of(r.due_at, c.zone), 'YYYY-MM-DD') as night,
           json_build_object(${NIGHT_OUTCOMES.map((outcome) => `'${outcome}', count(*) filter (where r.outcome = '${outcome}')`).join(", ")}) as cell
         from runs r join clients c on c.id = r.client_id join sources s on s.id = r.source_id
         where r.kind = 'backup' and r.state = 'ended' and r.due_at >= $4 and ${IN_SCOPE} group by 1, 2`,
        [...scopeValues(filter), from],
      )
    : countedNights(tx, filter.clientId ?? null, from);
async function countedNights(tx: Tx, clientId: ClientId | null, from: Date): Promise<NightCount[]> {
  const rows = await allPlanned<{ clientId: ClientId; nights: string }>(
    tx,
    "nights counted",
    // a row for each client, and text in it: there are thousands of nights. The newest may stand there in parts
    `select client_id as "clientId", string_agg(concat('["', night, '",', ${NIGHT_OUTCOMES.join(", ',', ")}, ']'), ',') as nights from (
         select client_id, night, ${NIGHT_OUTCOMES.join(", ")} from night_totals where night >= $2::date and ($1::uuid is null or client_id = $1)
         union all
         select r.client_id, night_of(r.slot, c.zone), ${NIGHT_OUTCOMES.map((outcome) => `r.${outcome}`).join(", ")}
         -- by the quarter of an hour first: every zone's noon is on one of them
         from (select client_id, date_bin('15 minutes', due_at, '2000-01-01 00:00Z') as slot,
             ${NIGHT_OUTCOMES.map((outcome) => `count(*) filter (where outcome = '${outcome}') as ${outcome}`).join(", ")}
           from runs where kind = 'backup' and state = 'ended' and due_at >= greatest($2, (select until from nights_counted))
             and ($1::uuid is null or client_id = $1) group by 1, 2) r join clients c on c.id = r.client_id) n
       group by 1`,
    [clientId, from],
  );
  const counts: NightCount[] = [];
  for (const { clientId: id, nights } of rows)
    for (const one of JSON.parse(`[${nights}]`) as [string, number, number, number, number, number][])
      counts.push({
        clientId: id,
        night: one[0],
        cell: { clean: one[1], caution: one[2], failed: one[3], stopped: one[4], missed: one[5] },
      });
  return counts;
}
/** Counts the runs of the nights up to a moment, once and for all. */
export const countNights = (tx: Tx, to: Date) => tx.query("select count_nights($1)", [to]);

/** Shares of changed files in the source's earlier runs, for what is usual. */
export const usualChanges = async (tx: Tx, sourceId: SourceId) =>
  (
    await all<{ share: number }>(
      tx,
      `select (figures->>'changed')::float / greatest(1, (figures->>'files')::float) as share from runs
       where source_id = $1 and kind = 'backup' and outcome in ('clean', 'caution') and figures ? 'changed' and (figures->>'first')::bool is not true
       order by due_at desc limit 30`,
      [sourceId],
    )
  ).map((row) => row.share);

export interface LogLine {
  readonly at: Date;
  readonly level: "info" | "caution" | "error";
  readonly code: Code | null;
  readonly path: string | null;
  readonly message: string;
}
export const appendLog = (tx: Tx, run: Pick<Run, "id" | "clientId">, lines: readonly LogLine[]) =>
  change(
    tx,
    `insert into run_log (run_id, client_id, at, level, code, path, message)
     select $1, $2, * from unnest($3::timestamptz[], $4::text[], $5::text[], $6::text[], $7::text[])`,
    [
      run.id,
      run.clientId,
      lines.map((line) => line.at),
      lines.map((line) => line.level),
      lines.map((line) => line.code),
      lines.map((line) => line.path),
      lines.map((line) => line.message),
    ],
  );
export const readLog = (tx: Tx, runId: RunId, after = 0, limit = 500) =>
  all<LogLine & { id: number }>(
    tx,
    "select id, at, level, code, path, message from run_log where run_id = $1 and id > $2 order by id limit $3",
    [runId, after, limit],
  );
export const countLog = async (tx: Tx, runId: RunId) =>
  (await one<{ cautions: number }>(
    tx,
    "select count(*) filter (where level <> 'info') as cautions from run_log where run_id = $1",
    [runId],
  ))!.cautions;

export const setStartedAt = (tx: Tx, id: string, at: Date) =>
  change(tx, "update runs set started_at = $2 where id = $1", [id, at]);
export const setProgress = (tx: Tx, id: string, progress: RunProgress) =>
  change(tx, "update runs set progress = $2 where id = $1", [id, JSON.stringify(progress)]);
/** Adds to what a run was asked for with. */
export const addToRequest = (tx: Tx, id: string, more: object) =>
  change(tx, "update runs set request = request || $2 where id = $1", [id, JSON.stringify(more)]);
export const setRequest = (tx: Tx, id: string, request: object) =>
  change(tx, "update runs set request = $2 where id = $1", [id, JSON.stringify(request)]);
/** A run that waits again because its executor was silent goes on after all. */
export const goOnReading = (tx: Tx, id: string) =>
  change(tx, "update runs set state = 'reading' where id = $1 and state = 'due'", [id]);
/** Ends a run that has not begun. */
export const stopWaitingRun = (tx: Tx, id: string, message: string, now: Date) =>
  change(
    tx,
    `update runs set state = 'ended', outcome = 'stopped', code = 'run.stopped', message = $2, ended_at = $3, lease_until = null where id = $1`,
    [id, message, now],
  );
/** Runs that a machine's agent executes. */
export const runsOnMachine = (tx: Tx, machineId: MachineId) =>
  all<{ id: string }>(
    tx,
    "select id from runs where machine_id = $1 and state in ('claimed', 'reading', 'closing')",
    [machineId],
  );
