import { randomUUID } from "node:crypto";
import type { z } from "zod";
import { CodedError, isCode } from "@/core/codes";
import type { ClientId, DepotId, RunId } from "@/core/ids";
import { capAt } from "@/core/policy/bandwidth";
import { readClauses } from "@/core/policy/clauses";
import type {
  EndReport,
  enrolRequest,
  heartbeatAnswer,
  Job,
  LogReport,
  ProgressReport,
  SystemReport,
} from "@/core/protocol/agent";
import { stopsAt } from "@/core/schedule/schedule";
import { notify } from "@/db/base/notify";
import { rollbackTo, type Scope, savepoint, type Tx } from "@/db/base/scope";
import { clientById, siteById } from "@/db/clients/clients";
import { clientKey, machineKey } from "@/db/clients/keys";
import { type Depot, depotById, type Grant, grantOf } from "@/db/depots/depots";
import { locateChunks, packExists } from "@/db/points/chunks";
import { placesOfPoint } from "@/db/points/copies";
import { pointById } from "@/db/points/points";
import {
  addToRequest,
  appendLog,
  claimAgain,
  claimRun,
  extendLease,
  goOnReading,
  linkSharing,
  lockRun,
  nextClaimable,
  type Run,
  type RunEnd,
  type RunKind,
  runById,
  runsOnMachine,
  setStopAt,
  takeRoom,
} from "@/db/runs/runs";
import {
  insertMachine,
  type Machine,
  machineById,
  machineByToken,
  markSeen,
  useCode,
} from "@/db/sources/machines";
import { policyById } from "@/db/sources/policies";
import { adoptedSource, giveMachine, insertSource, sourceById, sourceNames } from "@/db/sources/sources";
import { findGroups } from "@/server/access/rules";
import { record, type Who } from "@/server/access/who";
import { invalid, notFound, Problem } from "@/server/base/problem";
import type { Services } from "@/server/base/services";
import { momentLabel } from "@/server/inside/moment-label";
import { packName } from "@/store/packs/layout";
import { hashSecret, isPublicKey, randomSecret, sealTo } from "@/store/seal/secrets";
import { finishRun } from "./ending";
import type { StoredRestore } from "./request";
import { planRunDepots, startOverElsewhere } from "./run-depots";
import { LEASE_MS, takeUp } from "./tick";

/** Who executes runs: a machine through its agent, or (without an id) the runner for what the network reaches. */
export type Executor = Pick<Machine, "clientId" | "name" | "publicKey"> & { readonly id: string | null };

/**
 * What the console does for those who execute runs. A machine adds to its client's space and reads for its own restores;
 * nothing here lists, overwrites or deletes. Everything runs in the machine's scope, so another client's things are not
 * there for it. The runner works in the same scope, one client at a time.
 */
export const machineScope = (machine: Pick<Machine, "clientId">): Scope => ({
  role: "machine",
  clientId: machine.clientId,
});

/** Enrols a machine with a code; makes its source. */
export async function enrolMachine(
  services: Services,
  request: z.infer<typeof enrolRequest>,
  address: string,
) {
  const now = services.now();
  const publicKey = Buffer.from(request.publicKey, "base64");
  // before the code is used up: a client's key is sealed to it later, when nobody could correct it
  if (!isPublicKey(publicKey))
    throw invalid("publicKey", "Enter an X25519 public key, SPKI in DER, as base64.");
  return services.db.withScope({ role: "system" }, async (tx) => {
    const code = await useCode(tx, hashSecret(request.code.trim().toUpperCase()), now);
    if (!code)
      throw new Problem(
        "not-found",
        "This enrolment code is unknown, expired or used up. Ask for a new one.",
      );
    const client = (await clientById(tx, code.clientId))!;
    const orphan = await adoptedSource(tx, client.id, `${request.name} files`);
    const name = orphan ? request.name : await freeMachineName(tx, client.id, request.name);
    const token = randomSecret();
    const machine = {
      id: randomUUID(),
      clientId: client.id,
      siteId: code.siteId,
      name,
      publicKey,
      system: request.system,
      enrolledAt: now,
      seenAt: now,
    };
    await insertMachine(tx, machine, hashSecret(token));
    if (orphan) await giveMachine(tx, orphan.id, machine.id);
    else {
      await insertSource(
        tx,
        {
          id: randomUUID(),
          clientId: client.id,
          siteId: code.siteId,
          machineId: machine.id,
          connectionId: null,
          remoteId: null,
          kind: "files",
          name: `${name} files`,
        },
        now,
      );
      await findGroups(tx, client.id, now);
    }
    const site = await siteById(tx, code.siteId);
    await record(tx, { actor: name, address, at: now }, client.id, "enrolled a machine", name, {
      site: site?.name,
      system: request.system.system,
    });
    await notify(tx, { kind: "machine", clientId: client.id, id: machine.id });
    return { machineId: machine.id, token, clientName: client.name };
  });
}

async function freeMachineName(tx: Tx, clientId: ClientId, wish: string): Promise<string> {
  const taken = await sourceNames(tx, clientId);
  const names = new Set(taken.map((source) => source.name));
  let name = wish;
  for (let number = 2; names.has(`${name} files`); number += 1) name = `${wish}-${number}`;
  return name;
}

export const machineOfToken = (services: Services, token: string): Promise<Machine | null> =>
  services.db.withScope({ role: "system" }, (tx) => machineByToken(tx, hashSecret(token)));

/** Takes an agent's report; when it has just started, what it ran before is taken up again at once. */
export async function hearMachine(
  services: Services,
  machine: Machine,
  system: SystemReport,
  started: boolean,
): Promise<void> {
  const now = services.now();
  await services.db.withScope(machineScope(machine), async (tx) => {
    await markSeen(tx, machine.id, now, system);
    if (started) {
      const running = await runsOnMachine(tx, machine.id);
      for (const { id } of running) await takeUp(tx, (await lockRun(tx, id))!, now);
    }
    await notify(tx, { kind: "machine", clientId: machine.clientId, id: machine.id });
  });
}

/** The next run of a machine or of the runner, claimed under a lease; null when nothing is due. */
export async function nextJob(
  services: Services,
  executor: Executor,
  kinds: readonly RunKind[],
  /** The kinds of source that the executor reads; null: every kind that is its own. */
  sources: readonly string[] | null = null,
): Promise<Job | null> {
  const now = services.now();
  return services.db.withScope(machineScope(executor), async (tx) => {
    if (executor.id) await markSeen(tx, executor.id, now);
    const leaseUntil = new Date(now.getTime() + LEASE_MS);
    // an agent asks for work of a kind only while it has none: what was claimed for it has not reached it
    const again = executor.id ? await claimAgain(tx, executor.id, kinds, now, leaseUntil) : null;
    const run = again ?? (await nextClaimable(tx, executor.id, executor.clientId, kinds, sources, now));
    if (!run) return null;
    if (!again && run.kind === "backup" && !(await takeRoom(tx, run.sourceId))) return null;
    try {
      await savepoint(tx, "claim");
      if (!again && (await claimRun(tx, run.id, now, leaseUntil)) === 0) return null;
      const claimed = again ?? { ...run, attempt: run.attempt + 1 };
      const job = await describeJob(services, tx, executor, claimed, now);
      await notify(tx, { kind: "run", clientId: run.clientId, id: run.id });
      return job;
    } catch (error) {
      await rollbackTo(tx, "claim");
      // 23505: another claimer was quicker for this source
      if ((error as { code?: string }).code === "23505") return null;
      if (!(error instanceof CodedError)) throw error;
      await finishRun(
        tx,
        run,
        { outcome: "failed", code: error.code, message: error.message, figures: {} },
        now,
      );
      return null;
    }
  });
}

/** The client's key for who executes a run: sealed to it, so that nobody on the way can read it. */
async function sealedKeyFor(services: Services, tx: Tx, executor: Executor): Promise<Buffer> {
  const key = await clientKey(tx, executor.clientId);
  if (key?.destroyedAt) throw new CodedError("key.destroyed");
  if (!key?.confirmedAt) throw new CodedError("key.not-confirmed");
  if (key.holding === "escrow" || !executor.id)
    return sealTo(executor.publicKey, await services.spaces.opened(key));
  const held = await machineKey(tx, executor.id);
  if (!held) throw new CodedError("key.passphrase-needed", `${executor.name} does not have the key yet`);
  return held.sealed;
}

async function describeJob(
  services: Services,
  tx: Tx,
  executor: Executor,
  run: Run,
  now: Date,
): Promise<Job> {
  const sealedKey = (await sealedKeyFor(services, tx, executor)).toString("base64");
  const base = { runId: run.id, attempt: run.attempt, sealedKey };
  if (run.kind === "restore") {
    const request = run.request as unknown as StoredRestore;
    const client = (await clientById(tx, run.clientId))!;
    const items = [];
    for (const item of request.items) {
      const point = await pointById(tx, Buffer.from(item.pointId, "hex"));
      if (!point)
        throw new CodedError("not-found", "a recovery point of the basket was purged in the meantime");
      items.push({
        root: point.root.toString("hex"),
        momentLabel: momentLabel(point.moment, client.zone),
        path: Buffer.from(item.path, "latin1").toString("base64"),
        depotIds: await placesOfPoint(tx, point.id, now),
      });
    }
    const direct = await directDepots(tx, executor, new Set(items.flatMap((item) => item.depotIds)));
    return {
      ...base,
      direct,
      kind: "restore",
      items,
      folder: request.folder,
      clash: request.clash,
      toSourceId: request.toSourceId ?? null,
      table: request.table ?? null,
      start: request.start ?? false,
      totalBytes: run.progress.totalBytes ?? null,
    };
  }
  const source = (await sourceById(tx, run.sourceId))!;
  const policy = source.policyId ? await policyById(tx, source.policyId) : null;
  if (!policy || !source.rules)
    throw new CodedError("request.conflict", "the source has no complete policy any more");
  const clauses = readClauses(source.rules);
  const { targets, previous } = await planRunDepots(tx, run, clauses.where, now);
  const pass = run.request.pass === "full" ? "full" : "incremental";
  const client = (await clientById(tx, run.clientId))!;
  await setStopAt(tx, run.id, stopsAt(clauses.when, clauses.when.stopAfterHours, client.zone, now));
  await addToRequest(tx, run.id, {
    depotIds: targets.map(({ depot }) => depot.id),
    atOnce: clauses.where.atOnce,
    policyRevision: policy.revision,
    previous: previous?.id.toString("hex") ?? null,
  });
  const { name, zone, region, contactName, contactEmail } = client;
  return {
    ...base,
    direct: await directDepots(tx, executor, new Set(targets.map(({ depot }) => depot.id))),
    kind: "backup",
    policyName: policy.name,
    client: { name, zone, region, contactName, contactEmail },
    siteName: (await siteById(tx, source.siteId))?.name ?? "",
    moment: now.toISOString(),
    sourceId: source.id,
    sourceKind: source.kind,
    sourceName: source.name,
    machineName: executor.name,
    clauses,
    pass,
    previous: previous
      ? {
          pointId: previous.id.toString("hex"),
          root: previous.root.toString("hex"),
          items: previous.files + previous.folders + previous.links,
          bytes: previous.bytes,
        }
      : null,
    spaceEmpty: targets.every(({ grant }) => grant.usedBytes === 0),
  };
}

/** Those of the depots that a machine reaches itself; the runner's ways are the console's own. */
async function directDepots(tx: Tx, executor: Executor, depotIds: ReadonlySet<string>): Promise<string[]> {
  const direct = [];
  for (const id of executor.id ? depotIds : []) if ((await depotById(tx, id))?.direct) direct.push(id);
  return direct;
}

/** A run that this machine or runner executes, in this attempt. Throws not-found for any other. */
export async function runOf(tx: Tx, executor: Executor, runId: RunId): Promise<Run> {
  const run = await runById(tx, runId);
  if (!run || run.machineId !== executor.id) throw notFound();
  if (run.state === "ended") throw new Problem("request.conflict", "This run has ended.");
  return run;
}

/**
 * Refuses what an earlier attempt of a run still sends: what it was told is known may have been purged since the attempt
 * that took over began. Throws `request.conflict`.
 */
export function ofThisAttempt(run: Run, attempt: number): void {
  if (run.attempt !== attempt)
    throw new Problem("request.conflict", "Another attempt has taken over this run.");
}

export async function heartbeat(
  services: Services,
  executor: Executor,
  runId: RunId,
  report: ProgressReport,
): Promise<z.infer<typeof heartbeatAnswer>> {
  const now = services.now();
  const { attempt, ...progress } = report;
  return services.db.withScope(machineScope(executor), async (tx) => {
    const run = await runOf(tx, executor, runId);
    ofThisAttempt(run, attempt);
    // the console was gone for longer than the lease: the agent still works on it, so it is its run again
    if (run.state === "due") await goOnReading(tx, runId);
    await extendLease(tx, runId, new Date(now.getTime() + LEASE_MS), progress);
    if (executor.id) await markSeen(tx, executor.id, now);
    await notify(tx, { kind: "progress", clientId: run.clientId, id: runId });
    const over = run.stopAt !== null && run.stopAt <= now;
    return {
      stop: run.stopRequestedAt !== null || over,
      why: run.stopRequestedAt === null && over ? "window" : "person",
      bytesPerSecond: run.kind === "backup" ? await bandwidthOf(tx, run, now) : null,
    };
  });
}

/** How fast a run may send now: as Conduct says, and its share of the links of its client and site. Null: as it likes. */
async function bandwidthOf(tx: Tx, run: Run, now: Date): Promise<number | null> {
  const source = await sourceById(tx, run.sourceId);
  const client = await clientById(tx, run.clientId);
  const site = source && (await siteById(tx, source.siteId));
  if (!source || !client || !site) return null;
  const caps = [capAt(source.rules?.conduct?.bandwidth ?? [], client.zone, now)];
  const ofClient = capAt(client.limits.bandwidth, client.zone, now);
  const ofSite = capAt(site.limits.bandwidth, client.zone, now);
  if (ofClient !== null || ofSite !== null) {
    const sharing = await linkSharing(tx, client.id, site.id);
    caps.push(ofClient && ofClient / Math.max(1, sharing.ofClient));
    caps.push(ofSite && ofSite / Math.max(1, sharing.ofSite));
  }
  const holding = caps.filter((cap) => cap !== null);
  return holding.length ? Math.floor(Math.min(...holding)) : null;
}

export async function writeLog(
  services: Services,
  executor: Executor,
  runId: RunId,
  lines: readonly LogReport[],
): Promise<void> {
  const at = services.now();
  await services.db.withScope(machineScope(executor), async (tx) => {
    const run = await runOf(tx, executor, runId);
    // PostgreSQL's text takes no NUL
    const clean = (text: string) => text.replaceAll("\0", "\\0");
    await appendLog(
      tx,
      run,
      lines.map((line) => ({
        at,
        level: line.level,
        code: line.code && isCode(line.code) ? line.code : null,
        path: line.path && clean(line.path),
        message: clean(line.message),
      })),
    );
  });
}

/** Ends a run that makes no point: a failed or stopped one, or a restore. */
export async function endByAgent(
  services: Services,
  executor: Executor,
  runId: RunId,
  report: EndReport,
): Promise<void> {
  const now = services.now();
  await services.db.withScope(machineScope(executor), async (tx) => {
    const run = await lockRun(tx, runId);
    if (!run || run.machineId !== executor.id) throw notFound();
    if (run.state === "ended") return;
    ofThisAttempt(run, report.attempt);
    if (run.kind === "backup" && (report.outcome === "clean" || report.outcome === "caution")) {
      throw new Problem("request.invalid", "A backup ends well only with its recovery point.");
    }
    const end: RunEnd = {
      outcome: report.outcome,
      code:
        report.code && isCode(report.code)
          ? report.code
          : report.outcome === "failed"
            ? "run.agent-error"
            : null,
      message: report.message,
      figures: report.figures,
    };
    if (await startOverElsewhere(tx, run, end, now)) return;
    await finishRun(tx, run, end, now);
    if (run.kind !== "backup") {
      const address = executor.id ? "its agent" : "runner";
      const who: Who = { actor: executor.name, address, at: now };
      await record(tx, who, run.clientId, `ended a ${run.kind}`, executor.name, {
        run: runId,
        outcome: report.outcome,
        ...report.figures,
      });
    }
  });
}

/** The depots that a restore reads. */
async function restoreGrant(
  tx: Tx,
  executor: Executor,
  runId: RunId,
  depotId: DepotId,
): Promise<{ grant: Grant; depot: Depot }> {
  const run = await runOf(tx, executor, runId);
  if (run.kind !== "restore") throw notFound();
  const grant = await grantOf(tx, depotId, run.clientId);
  const depot = await depotById(tx, depotId);
  if (!grant || !depot) throw notFound();
  return { grant, depot };
}

/** In which packs chunks lie, for a machine's own restore; empty where there is none. */
export async function locateForRestore(
  services: Services,
  executor: Executor,
  runId: RunId,
  depotId: DepotId,
  ids: readonly Buffer[],
): Promise<(string | null)[]> {
  return services.db.withScope(machineScope(executor), async (tx) => {
    const { grant } = await restoreGrant(tx, executor, runId, depotId);
    return (await locateChunks(tx, grant.spaceId, ids)).map((pack) => pack?.toString("hex") ?? null);
  });
}

/** The depot and space in which a pack lies that a machine's own restore may read. Throws `not-found` for any other. */
export const packOfRestore = (
  services: Services,
  executor: Executor,
  runId: RunId,
  depotId: DepotId,
  packId: string,
): Promise<{ grant: Grant; depot: Depot }> =>
  services.db.withScope(machineScope(executor), async (tx) => {
    const found = await restoreGrant(tx, executor, runId, depotId);
    if (!(await packExists(tx, found.grant.spaceId, Buffer.from(packId, "hex")))) throw notFound();
    return found;
  });

/** Bytes of a pack, for a machine's own restore. Negative offsets count from the end. */
export async function readPackForRestore(
  services: Services,
  executor: Executor,
  runId: RunId,
  depotId: DepotId,
  packId: string,
  offset: number,
  length: number,
): Promise<{ size: number; bytes: Buffer }> {
  const { grant, depot } = await packOfRestore(services, executor, runId, depotId, packId);
  const place = services.places.of(depot);
  const name = packName(grant.spaceId, packId);
  const size = await place.size(name);
  return {
    size,
    bytes:
      length === 0
        ? Buffer.alloc(0)
        : await place.read(name, offset, Math.min(length, Math.max(0, size - offset))),
  };
}

/** The machine as it stands now. */
export const currentMachine = (services: Services, id: string): Promise<Machine | null> =>
  services.db.withScope({ role: "system" }, (tx) => machineById(tx, id));
