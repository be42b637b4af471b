import type { Code } from "@/core/codes";
import type { ClientId, DepotId, RunId } from "@/core/ids";
import type { RunDepotShown, RunDepotState } from "@/core/protection/run-depots";
import { all, change, type Tx } from "../base/scope";
import type { Depot, Grant } from "../depots/depots";

/** What a run has to do with one depot: packs and bytes that it put there, and the code with which it failed. */
export interface RunDepot extends RunDepotShown {
  readonly code: Code | null;
}

/** A depot that a run writes to, with the client's share in it. */
export interface Target {
  readonly depot: Depot;
  readonly grant: Grant;
}

/** Sets anew what a run has to do with which depots, in the order of writing. */
export async function setRunDepots(
  tx: Tx,
  run: { readonly id: string; readonly clientId: ClientId },
  depots: readonly Pick<RunDepot, "depotId" | "state" | "message">[],
): Promise<void> {
  for (const [place, depot] of depots.entries())
    await change(
      tx,
      `insert into run_depots (run_id, depot_id, client_id, place, state, message) values ($1, $2, $3, $4, $5, $6)
       on conflict (run_id, depot_id) do update set place = excluded.place, state = excluded.state, message = excluded.message, code = null`,
      [run.id, depot.depotId, run.clientId, place, depot.state, depot.message],
    );
}

/** The depots of runs, in the order of writing. */
export const depotsOfRuns = (tx: Tx, runIds: readonly string[]) =>
  all<RunDepot & { readonly runId: RunId }>(
    tx,
    `select r.run_id as "runId", r.depot_id as "depotId", d.name as "depotName", r.state, r.code, r.message, r.packs, r.bytes
     from run_depots r join depots d on d.id = r.depot_id where r.run_id = any($1) order by r.run_id, r.place`,
    [runIds],
  );
export const depotsOfRun = (tx: Tx, runId: RunId): Promise<RunDepot[]> => depotsOfRuns(tx, [runId]);

export const noteRunDepot = (
  tx: Tx,
  runId: RunId,
  depotId: DepotId,
  note: { readonly state: RunDepotState; readonly code?: Code; readonly message?: string },
) =>
  change(
    tx,
    "update run_depots set state = $3, code = coalesce($4, code), message = coalesce($5, message) where run_id = $1 and depot_id = $2",
    [runId, depotId, note.state, note.code ?? null, note.message ?? null],
  );
export const countRunDepot = (tx: Tx, runId: RunId, depotId: DepotId, bytes: number) =>
  change(
    tx,
    "update run_depots set packs = packs + 1, bytes = bytes + $3 where run_id = $1 and depot_id = $2",
    [runId, depotId, bytes],
  );
/** A run that ended: where it kept no point in any depot, it is not writing to them any more, and nothing is to catch up. */
export const breakOffRunDepots = (tx: Tx, runId: RunId) =>
  change(
    tx,
    `update run_depots set state = 'broken off' where run_id = $1
     and not exists (select from run_depots k where k.run_id = $1 and k.state in ('kept', 'caught up'))`,
    [runId],
  );
/** A point's run has nothing to make up for in this depot any more. */
export const markCaughtUp = (tx: Tx, pointId: Buffer, depotId: DepotId) =>
  change(
    tx,
    `update run_depots rd set state = 'caught up' from points p
     where p.id = $1 and rd.run_id = p.run_id and rd.depot_id = $2 and rd.state in ('failed', 'behind', 'away')`,
    [pointId, depotId],
  );
