import { randomUUID } from "node:crypto";
import { DateTime } from "luxon";
import type { ClientId, MachineId, RunId, SourceId } from "@/core/ids";
import { runDepots } from "@/core/policy/where";
import { notify } from "@/db/base/notify";
import type { Tx } from "@/db/base/scope";
import { clientById } from "@/db/clients/clients";
import { clientKey } from "@/db/clients/keys";
import { type Absence, absenceNow } from "@/db/depots/absences";
import { depotById } from "@/db/depots/depots";
import { type Point, pointById } from "@/db/points/points";
import {
  bringForward,
  hasRoom,
  insertRun,
  lockRun,
  type Run,
  requestStop,
  runById,
  runningRun,
  stopWaitingRun,
  waitingRun,
} from "@/db/runs/runs";
import { machineById } from "@/db/sources/machines";
import { isReachable, type Source, sourceById } from "@/db/sources/sources";
import { kindOf } from "@/kinds";
import type { Who } from "@/server/access/who";
import { record } from "@/server/access/who";
import { invalid, notFound, Problem } from "@/server/base/problem";
import { pathFromText } from "@/server/inside/path-text";
import type { ByteString } from "@/store/tree/tree";

/** Asks for a backup now. When one waits already, that one is meant. */
export async function requestBackup(
  tx: Tx,
  who: Who,
  sourceId: SourceId,
  pass: "incremental" | "full" = "incremental",
): Promise<Run> {
  const source = await sourceById(tx, sourceId);
  if (!source) throw notFound();
  if (!(await isReachable(tx, source)))
    throw new Problem("request.conflict", `${source.name} cannot be reached any more; its points remain.`);
  if (!source.policyId)
    throw new Problem("request.conflict", `${source.name} has no policy. Assign one first.`);
  if (!source.rules)
    throw new Problem(
      "request.conflict",
      `The rules for ${source.name} are not complete: a clause is not set at any level. Complete its policy first.`,
    );
  const key = await clientKey(tx, source.clientId);
  if (key?.destroyedAt) throw new Problem("key.destroyed");
  if (!key?.confirmedAt) throw new Problem("key.not-confirmed");
  const waiting = await waitingRun(tx, sourceId);
  if (waiting) {
    if (waiting.dueAt <= who.at) return waiting;
    // it was to be tried again later; whoever asks does not want to wait for that
    await bringForward(tx, waiting.id, who.at);
    await record(tx, who, source.clientId, "requested a backup", source.name, { run: waiting.id });
    await notify(tx, {
      kind: "run",
      clientId: source.clientId,
      id: waiting.id,
      machineId: source.machineId ?? undefined,
    });
    return (await runById(tx, waiting.id))!;
  }
  const id = randomUUID();
  await insertRun(tx, {
    id,
    clientId: source.clientId,
    sourceId,
    machineId: source.machineId,
    kind: "backup",
    cause: "person",
    requestedBy: who.actor,
    dueAt: who.at,
    request: { pass },
  });
  await record(tx, who, source.clientId, "requested a backup", source.name, { run: id, pass });
  await notify(tx, { kind: "run", clientId: source.clientId, id, machineId: source.machineId ?? undefined });
  return (await runById(tx, id))!;
}

/** The planned absence for which a source's runs wait: all depots that they may go to are away. Of the first to be back. */
export async function depotAway(
  tx: Tx,
  sourceId: SourceId,
  now: Date,
): Promise<(Absence & { readonly depotName: string }) | null> {
  const source = await sourceById(tx, sourceId);
  let first: (Absence & { readonly depotName: string }) | null = null;
  for (const depotId of source?.rules ? runDepots(source.rules.where) : []) {
    const absence = await absenceNow(tx, depotId, now);
    if (!absence) return null;
    if (!first || absence.to < first.to)
      first = { ...absence, depotName: (await depotById(tx, depotId))?.name ?? "" };
  }
  return first;
}

/** Why a due run does not start yet, in a sentence; null when it may. */
export async function whyWaiting(tx: Tx, run: Run, now: Date): Promise<string | null> {
  if (run.state !== "due") return null;
  const zone = await zoneOf(tx, run.clientId);
  const clock = (at: Date, format = "HH:mm") =>
    `${DateTime.fromJSDate(at, { zone }).toFormat(format)} (${zone})`;
  if (run.dueAt > now) return `Retry at ${clock(run.dueAt)}, as the clause Conduct says.`;
  if (run.kind === "backup") {
    const running = await runningRun(tx, run.sourceId);
    if (running?.startedAt)
      return `Waiting for the run of the same source that started at ${clock(running.startedAt)}; one run per source at a time.`;
  }
  const away = run.kind === "backup" ? await depotAway(tx, run.sourceId, now) : null;
  if (away)
    return `Waiting for the depot ${away.depotName}, absent until ${clock(away.to, "yyyy-MM-dd HH:mm")}: ${away.note}.`;
  if (run.kind === "backup" && !(await hasRoom(tx, run.sourceId)))
    return "Queued: the limit of simultaneous runs of its client, site or depot is reached.";
  return run.machineId
    ? "Waiting for the machine: its agent has not started the run yet."
    : "Queued at the runner, which reaches it over the network.";
}

export interface RestoreRequest {
  readonly items: readonly { readonly pointId: string; readonly path: string }[];
  readonly destination:
    | { readonly kind: "original" }
    | { readonly kind: "folder"; readonly folder: string; readonly machineId?: MachineId | undefined }
    | {
        readonly kind: "source";
        readonly sourceId: SourceId;
        /** Names separated by slashes; without it everything goes where it was. */
        readonly folder?: string | undefined;
        /** Of a database: the one table that is wanted. */
        readonly table?: StoredRestore["table"] | undefined;
        /** Of a guest: it runs from the depot at once, and its data is copied meanwhile. */
        readonly start?: boolean | undefined;
      };
  readonly clash: "keep-both" | "replace" | "skip";
}

/** What a restore run holds in its request. */
export interface StoredRestore {
  readonly items: readonly { readonly pointId: string; readonly path: ByteString }[];
  readonly folder: string | null;
  readonly clash: RestoreRequest["clash"];
  /** The source that is restored to over the network, and its name at that time; absent for a machine. */
  readonly toSourceId?: SourceId;
  /** Of a database: the one table that is restored. */
  readonly table?: { readonly schema: string; readonly name: string };
  /** Of a guest: it runs from the depot at once. */
  readonly start?: boolean;
  readonly toName?: string;
}

/** A source that takes items of a kind back over the network. Throws problems of the field. */
async function networkTarget(tx: Tx, from: Source, sourceId: SourceId, field: string): Promise<Source> {
  const target = await sourceById(tx, sourceId);
  if (!target) throw invalid(field, "This source does not exist, or you do not have access to it.");
  if (target.clientId !== from.clientId) throw invalid(field, "A restore stays within one client.");
  if (target.kind !== from.kind || !target.connectionId)
    throw invalid(
      field,
      `${target.name} cannot receive these items. Select one of the client's ${kindOf(from.kind)?.sources ?? "sources of the same kind"}.`,
    );
  if (!(await isReachable(tx, target)))
    throw invalid(field, `${target.name} cannot be reached any more. Select another target.`);
  return target;
}

/** The points that items name, all of one client. Throws problems of the field. */
export async function pointsOfItems(
  tx: Tx,
  items: RestoreRequest["items"],
): Promise<{ point: Point; path: ByteString }[]> {
  const found: { point: Point; path: ByteString }[] = [];
  for (const [i, item] of items.entries()) {
    const point = await pointById(tx, Buffer.from(item.pointId, "hex"));
    if (!point) throw notFound();
    if (found[0] && found[0].point.clientId !== point.clientId) {
      throw invalid(`items.${i}.pointId`, "A basket holds things of one client only.");
    }
    found.push({ point, path: pathFromText(item.path, `items.${i}.path`) });
  }
  return found;
}

/** Where the items of one network source go back to; null where a machine is the target. */
async function networkTargetOf(
  tx: Tx,
  source: Source,
  items: readonly { readonly point: Point }[],
  destination: RestoreRequest["destination"],
): Promise<{ target: Source; folder: string | null } | null> {
  if (destination.kind === "source") {
    const target = await networkTarget(tx, source, destination.sourceId, "destination.sourceId");
    for (const [i, item] of items.entries())
      if ((await sourceById(tx, item.point.sourceId))?.kind !== target.kind)
        throw invalid(`items.${i}`, "These items are of several kinds. Restore them one kind at a time.");
    if (destination.table && !kindOf(target.kind)?.tables)
      throw invalid("destination.table", "Only of a database a single table can be restored.");
    if (destination.start && !kindOf(target.kind)?.starts)
      throw invalid("destination.start", "Only a guest can be started from the depot.");
    const missing = destination.folder ? null : kindOf(target.kind)?.nameElsewhere;
    if (missing) throw invalid("destination.folder", missing);
    return { target, folder: destination.folder ?? null };
  }
  if (destination.kind !== "original" || !source.connectionId) return null;
  const other = items.findIndex((item) => item.point.sourceId !== source.id);
  if (other > 0)
    throw invalid(
      `items.${other}`,
      "These items come from several sources. Restore them one source at a time.",
    );
  return { target: await networkTarget(tx, source, source.id, "destination"), folder: null };
}

/** Asks for a restore to a machine, or to a source that is reached over the network, of the same client. */
export async function requestRestore(tx: Tx, who: Who, request: RestoreRequest): Promise<Run> {
  const items = await pointsOfItems(tx, request.items);
  const first = items[0];
  if (!first) throw invalid("items", "Put something into the basket first.");
  const source = (await sourceById(tx, first.point.sourceId))!;
  const { destination } = request;
  const network = await networkTargetOf(tx, source, items, destination);
  if (network) {
    const { target, folder } = network;
    const stored: StoredRestore = {
      ...storedItems(items),
      folder,
      clash: kindOf(target.kind)?.clashes ? request.clash : "skip",
      toSourceId: target.id,
      ...(destination.kind === "source" && destination.table ? { table: destination.table } : {}),
      ...(destination.kind === "source" && destination.start ? { start: true } : {}),
      toName: target.name,
    };
    return insertRestore(tx, who, source, request, { stored, machineId: null, to: target.name });
  }
  const machineId =
    destination.kind === "folder" ? (destination.machineId ?? source.machineId) : source.machineId;
  const machine = machineId ? await machineById(tx, machineId) : null;
  if (!machine)
    throw destination.kind === "folder"
      ? invalid("destination.machineId", "This machine is not there.")
      : invalid(
          "destination",
          "These items do not come from a machine. Select a folder on a machine, or download them.",
        );
  if (machine.clientId !== source.clientId)
    throw invalid("destination.machineId", "A restore stays within one client.");
  if (machine.goneAt)
    throw invalid("destination.machineId", `${machine.name} was removed. Select another machine.`);
  if (destination.kind === "original") {
    for (const [i, item] of items.entries()) {
      const from = await sourceById(tx, item.point.sourceId);
      if (from?.machineId !== machine.id)
        throw invalid(`items.${i}`, "These items come from several machines. Select a folder for them.");
    }
  }
  const stored: StoredRestore = {
    ...storedItems(items),
    folder: destination.kind === "folder" ? destination.folder : null,
    clash: request.clash,
  };
  return insertRestore(tx, who, source, request, { stored, machineId: machine.id, to: machine.name });
}

const storedItems = (items: readonly { readonly point: Point; readonly path: ByteString }[]) => ({
  items: items.map(({ point, path }) => ({ pointId: point.id.toString("hex"), path })),
});

async function insertRestore(
  tx: Tx,
  who: Who,
  source: Source,
  request: RestoreRequest,
  {
    stored,
    machineId,
    to,
  }: { readonly stored: StoredRestore; readonly machineId: MachineId | null; readonly to: string },
): Promise<Run> {
  const id = randomUUID();
  await insertRun(tx, {
    id,
    clientId: source.clientId,
    sourceId: source.id,
    machineId,
    kind: "restore",
    cause: "person",
    requestedBy: who.actor,
    dueAt: who.at,
    request: { ...stored },
  });
  await record(tx, who, source.clientId, "requested a restore", source.name, {
    run: id,
    to,
    folder: stored.folder,
    clash: stored.clash,
    items: request.items.slice(0, 50),
  });
  await notify(tx, { kind: "run", clientId: source.clientId, id, machineId: machineId ?? undefined });
  return (await runById(tx, id))!;
}

/** Stops a run: one that waits ends at once, one that runs when its agent hears of it. */
export async function stopRun(tx: Tx, who: Who, runId: RunId): Promise<Run> {
  const run = await lockRun(tx, runId);
  if (!run) throw notFound();
  if (run.state === "ended") throw new Problem("request.conflict", "This run has ended already.");
  if (run.state === "due") {
    await stopWaitingRun(tx, runId, `Stopped by ${who.actor} before it began.`, who.at);
  } else await requestStop(tx, runId, who.at);
  await record(tx, who, run.clientId, "stopped a run", run.kind, { run: runId });
  await notify(tx, { kind: "run", clientId: run.clientId, id: runId });
  return (await runById(tx, runId))!;
}

/** The zone of a client, for schedules. */
export const zoneOf = async (tx: Tx, clientId: ClientId): Promise<string> =>
  (await clientById(tx, clientId))?.zone ?? "UTC";
