import { CODES, type Code } from "../codes";
import type { ClientId, ConnectionId, DepotId, MachineId, PolicyId, RunId, SiteId, SourceId } from "../ids";
import { counted, formatDuration } from "../units/duration";
import { type ContractKind, countedKind } from "../usage/contract";
import type { ProtectionState } from "./state";

/** What Watch knows of one source. */
export interface SourceFacts {
  readonly id: SourceId;
  readonly name: string;
  readonly clientId: ClientId;
  readonly clientName: string;
  readonly state: ProtectionState;
  /** Its machine, when that has not spoken for `SILENT_HOURS`; `seen`: when it last did, null when it never did. */
  readonly silent: {
    readonly machineId: MachineId;
    readonly machineName: string;
    readonly seen: Date | null;
  } | null;
  /** What it is reached through, when that is no machine. */
  readonly connectionId: ConnectionId | null;
  readonly connectionName: string | null;
  /** Its machine or connection was taken away, or the far end has it no more; its points remain. */
  readonly gone: boolean;
  readonly hasPolicy: boolean;
  /**
   * Why it has no next run although it should: its rules lack a clause, or none of their schedules has a time left. Null when
   * it has one, and when it runs only by hand or after other sources.
   */
  readonly unscheduled?: "rules-incomplete" | "no-time-left" | null;
  readonly siteId: SiteId;
  readonly siteName: string;
  readonly policyId: PolicyId | null;
  readonly policyName: string | null;
  /** When the policy was changed last. */
  readonly policyChanged: Date | null;
  readonly depotId: DepotId | null;
  readonly depotName: string | null;
  /** Until when its depot is away by plan; null when it is there. */
  readonly depotAwayUntil: Date | null;
  readonly newestPoint: Date | null;
  readonly targetHours: number | null;
  /** The last ended backup run: its code when it failed or ended with a caution. */
  readonly lastOutcome: string | null;
  readonly lastCode: Code | null;
  readonly lastRunEnded: Date | null;
  /** Evidence of a burst of changes in the last run, when there is one, and the machine that it was on. */
  readonly burst: {
    readonly changedShare: number;
    readonly denserShare: number;
    readonly folder: string;
    readonly machineName?: string | null;
  } | null;
  readonly keyConfirmed: boolean;
}

/** A depot with its capacity, or a client's share of one with its quota. */
export interface DepotFacts {
  readonly id: string;
  readonly depotId: DepotId;
  readonly name: string;
  readonly capacity: number;
  readonly used: number;
  /** Ids of sources whose policy writes there. */
  readonly sourceIds: readonly string[];
}

/** Points of a source of which a check found something damaged in a depot. */
export interface DamageFacts {
  readonly depotId: DepotId;
  readonly depotName: string;
  readonly sourceId: SourceId;
  readonly points: number;
  /** How many of them lie whole in another depot. */
  readonly elsewhere: number;
  readonly since: Date;
}

export type CauseKind =
  | "burst"
  | "damage"
  | "depot-full"
  | "depot-away"
  | "depot-failed"
  | "machine-silent"
  | "site-silent"
  | "policy-change"
  | "one-code"
  | "connection-failed"
  | "run-failed"
  | "run-caution"
  | "target-passed"
  | "no-policy"
  | "no-next-run"
  | "key-not-confirmed"
  | "messages-unsent"
  | "drill-failed"
  | "lock-refused"
  | "contract-exceeded"
  | "orphan";

/** Messages that were given up: nobody heard of what they tell. */
export interface UnsentFacts {
  readonly count: number;
  readonly recipients: readonly string[];
  readonly since: Date;
  /** What the last of them was refused with. */
  readonly error: string;
}

/** A source whose newest drill failed. */
export interface DrillFacts {
  readonly sourceId: SourceId;
  readonly runId: RunId;
  /** The depot that was proven; null where the drill did not come so far. */
  readonly depotId: DepotId | null;
  readonly depotName: string | null;
  readonly code: Code | null;
  readonly at: Date;
}

/** A depot that did not keep what it holds of a client as long as the client's lock says. */
export interface RefusedLockFacts {
  readonly depotId: DepotId;
  readonly depotName: string;
  readonly clientId: ClientId;
  readonly clientName: string;
  /** What the depot said. */
  readonly error: string;
  readonly since: Date;
}

/** More sources of a kind are protected than the client has bought. */
export interface ExceededContract {
  readonly clientId: ClientId;
  readonly clientName: string;
  readonly kind: ContractKind;
  readonly contracted: number;
  readonly sources: number;
}

/** What stands beside the states of sources. */
export interface OtherFacts {
  readonly damages?: readonly DamageFacts[];
  readonly unsent?: UnsentFacts | null;
  readonly drills?: readonly DrillFacts[];
  readonly locks?: readonly RefusedLockFacts[];
  readonly contracts?: readonly ExceededContract[];
}

/** One line of *needs you*: a cause, with all it touches. */
export interface Cause {
  /** Stable while the cause lasts, so that a link or a note keeps its meaning. */
  readonly key: string;
  readonly kind: CauseKind;
  readonly state: ProtectionState;
  readonly title: string;
  readonly detail: string;
  readonly sourceIds: readonly string[];
  readonly clientNames: readonly string[];
  readonly since: Date | null;
  readonly code: Code | null;
  readonly depotId: DepotId | null;
  /** The run that it is about, where that is not the last one of its sources. */
  readonly runId?: RunId;
}

/** A machine counts as silent after this many hours without a word. */
export const SILENT_HOURS = 26;
/** From this share of it on a depot is told of as nearly full. */
export const FULL_SHARE = 0.9;

const RANK: Record<ProtectionState, number> = {
  exposed: 4,
  slipping: 3,
  "never kept": 2,
  paused: 1,
  kept: 0,
};
const percent = (share: number): string => `${Math.round(share * 100)} %`;

/**
 * Groups what is wrong by cause, worst first. A source appears under one cause only: the one nearest to the root (an
 * eaten machine before its failed run, a silent machine before its passed target), so that forty failures with one cause
 * are one line. Full depots come in addition, for they are about tonight, and so does damage, which is about what was kept.
 */
export function findCauses(
  sources: readonly SourceFacts[],
  depots: readonly DepotFacts[],
  now: Date,
  { damages = [], unsent = null, drills = [], locks = [], contracts = [] }: OtherFacts = {},
): Cause[] {
  const causes: Cause[] = [];
  const groups = new Map<string, SourceFacts[]>();
  for (const source of sources) {
    const key = rootCause(source, now);
    if (!key) continue;
    const group = groups.get(key);
    if (group) group.push(source);
    else groups.set(key, [source]);
  }
  for (const [key, group] of joined(groups)) causes.push(describeGroup(key, group, now));
  const byId = new Map(sources.map((source) => [source.id, source]));
  for (const depot of depots) {
    const share = depot.capacity > 0 ? depot.used / depot.capacity : 0;
    if (share < FULL_SHARE) continue;
    const touched = depot.sourceIds.flatMap((id) => byId.get(id) ?? []);
    causes.push({
      key: `depot-full:${depot.id}`,
      kind: "depot-full",
      state: share >= 0.95 ? "exposed" : "slipping",
      title: `${depot.name} is ${percent(share)} full: ${counted(touched.length, "source")} will soon miss ${touched.length === 1 ? "its" : "their"} runs`,
      detail: names(touched),
      sourceIds: touched.map((source) => source.id),
      clientNames: clientsOf(touched),
      since: null,
      code: "depot.full",
      depotId: depot.depotId,
    });
  }
  for (const depotId of new Set(damages.map((damage) => damage.depotId))) {
    const here = damages.filter((damage) => damage.depotId === depotId && byId.has(damage.sourceId));
    if (here.length) causes.push(describeDamage(here, byId));
  }
  const failed = drills.filter((drill) => byId.has(drill.sourceId));
  for (const key of new Set(failed.map(drillKey)))
    causes.push(
      describeDrills(
        key,
        failed.filter((drill) => drillKey(drill) === key),
        byId,
      ),
    );
  if (unsent && unsent.count > 0)
    causes.push({
      key: "messages-unsent",
      kind: "messages-unsent",
      state: "slipping",
      title: `${counted(unsent.count, "message")} could not be delivered`,
      detail: `to ${unsent.recipients.slice(0, 3).join(", ")}${unsent.recipients.length > 3 ? ` and ${unsent.recipients.length - 3} more` : ""} · ${unsent.error}`,
      sourceIds: [],
      clientNames: [],
      since: unsent.since,
      code: null,
      depotId: null,
    });
  for (const lock of locks)
    causes.push({
      key: `lock-refused:${lock.depotId}:${lock.clientId}`,
      kind: "lock-refused",
      state: "slipping",
      title: `${lock.depotName} did not extend the lock of ${lock.clientName}’s packs`,
      detail: lock.error,
      sourceIds: [],
      clientNames: [lock.clientName],
      since: lock.since,
      code: "depot.lock-refused",
      depotId: lock.depotId,
    });
  for (const one of contracts)
    causes.push({
      key: `contract-exceeded:${one.clientId}:${one.kind}`,
      kind: "contract-exceeded",
      // all of them are protected: this is about the invoice
      state: "kept",
      title: `${one.clientName}: ${countedKind(one.kind, one.sources)} protected, ${one.contracted} contracted`,
      detail: `${counted(one.sources - one.contracted, "source")} more than the contract covers`,
      sourceIds: [],
      clientNames: [one.clientName],
      since: null,
      code: null,
      depotId: null,
    });
  const weight = (cause: Cause) => (cause.kind === "burst" ? 10 : RANK[cause.state]);
  return causes.sort(
    (a, b) =>
      weight(b) - weight(a) || b.sourceIds.length - a.sourceIds.length || a.title.localeCompare(b.title),
  );
}

/** Machines of one site that fell silent within this time had one reason for it: their link, or their power. */
const TOGETHER_MS = 30 * 60_000;
const SILENT_TOGETHER = 3;
/** One code over so many sources of several clients is one thing that happened, whatever it is. */
const ONE_CODE = 5;

/** Puts groups together that have one root behind them: a site's link, a change of a policy, one code over many. */
function joined(groups: ReadonlyMap<string, SourceFacts[]>): Map<string, SourceFacts[]> {
  const left = new Map(groups);
  const join = (key: string, parts: readonly string[]) => {
    const members = parts.flatMap((part) => left.get(part) ?? []);
    for (const part of parts) left.delete(part);
    left.set(key, members);
  };
  const bySite = gather(
    [...left].filter(([key]) => key.startsWith("machine-silent:")),
    (source) => source.siteId,
  );
  for (const [siteId, silent] of bySite) {
    // the longest row of machines that were last seen about the same time
    const seen = silent
      .flatMap(([key, [first]]) => (first!.silent?.seen ? [{ key, at: first!.silent.seen.getTime() }] : []))
      .sort((a, b) => a.at - b.at);
    let best: typeof seen = [];
    for (const [i, { at }] of seen.entries()) {
      const row = seen.slice(i).filter((other) => other.at - at <= TOGETHER_MS);
      if (row.length > best.length) best = row;
    }
    if (best.length >= SILENT_TOGETHER)
      join(
        `site-silent:${siteId}`,
        best.map(({ key }) => key),
      );
  }
  const failed = () => [...left].filter(([key]) => key.startsWith("run-failed:"));
  const ofPolicy = gather(
    failed().filter(([, [first]]) => first!.policyId && brokeByChange(first!)),
    (source) => `${source.policyId}:${source.lastCode}`,
  );
  for (const [id, parts] of ofPolicy)
    if (parts.length > 1)
      join(
        `policy-change:${id}`,
        parts.map(([key]) => key),
      );
  // what failed and what ended with a caution stay apart: of these a recovery point exists
  for (const outcome of ["run-failed", "run-caution"]) {
    const ofCode = gather(
      [...left].filter(([key]) => key.startsWith(`${outcome}:`)),
      (source) => source.lastCode ?? "internal.error",
    );
    for (const [code, parts] of ofCode) {
      const members = parts.flatMap(([, group]) => group);
      if (members.length >= ONE_CODE && clientsOf(members).length > 1)
        join(
          `one-code:${outcome === "run-failed" ? "" : "caution:"}${code}`,
          parts.map(([key]) => key),
        );
    }
  }
  return left;
}

/** The policy was changed after the newest point and before the run that failed. */
const brokeByChange = ({ policyChanged, newestPoint, lastRunEnded }: SourceFacts): boolean =>
  policyChanged !== null &&
  lastRunEnded !== null &&
  policyChanged <= lastRunEnded &&
  (newestPoint === null || newestPoint <= policyChanged);

type Group = readonly [key: string, sources: SourceFacts[]];
function gather(groups: readonly Group[], keyOf: (source: SourceFacts) => string): Map<string, Group[]> {
  const found = new Map<string, Group[]>();
  for (const group of groups) {
    const key = keyOf(group[1][0]!);
    found.set(key, [...(found.get(key) ?? []), group]);
  }
  return found;
}

function describeDamage(here: readonly DamageFacts[], byId: ReadonlyMap<string, SourceFacts>): Cause {
  const touched = here.map((damage) => byId.get(damage.sourceId)!);
  const sum = (of: (damage: DamageFacts) => number) => here.reduce((total, damage) => total + of(damage), 0);
  const points = sum((damage) => damage.points);
  const elsewhere = sum((damage) => damage.elsewhere);
  const { depotId, depotName } = here[0]!;
  return {
    key: `damage:${depotId}`,
    kind: "damage",
    state: elsewhere === points ? "slipping" : "exposed",
    title: `${depotName}: ${counted(points, "recovery point")} ${points === 1 ? "has" : "have"} missing data`,
    detail: `${names(touched)} · ${
      elsewhere === points
        ? "another depot has a complete copy; a check repairs it from there"
        : `${counted(points - elsewhere, "point")} cannot be repaired; the next run stores again what the source still has`
    }`,
    sourceIds: touched.map((source) => source.id),
    clientNames: clientsOf(touched),
    since: new Date(Math.min(...here.map((damage) => damage.since.getTime()))),
    code: "store.damaged",
    depotId,
  };
}

/** Drills that failed in one depot in one way have one cause. */
const drillKey = ({ depotName, code }: DrillFacts): string =>
  `drill-failed:${depotName ?? ""}:${code ?? "internal.error"}`;

function describeDrills(
  key: string,
  failed: readonly DrillFacts[],
  byId: ReadonlyMap<string, SourceFacts>,
): Cause {
  const touched = failed.map((drill) => byId.get(drill.sourceId)!);
  const { runId, depotId, depotName, code } = failed[0]!;
  const who = touched.length === 1 ? touched[0]!.name : counted(touched.length, "source");
  return {
    key,
    kind: "drill-failed",
    state: code === "drill.differs" || code === "store.damaged" ? "exposed" : "slipping",
    title: `${who}: the last drill ${depotName ? `from ${depotName} ` : ""}failed, ${lower(CODES[code ?? "internal.error"].title)}`,
    detail: `${names(touched)} · restores are unproven until a drill succeeds`,
    sourceIds: touched.map((source) => source.id),
    clientNames: clientsOf(touched),
    since: new Date(Math.min(...failed.map((drill) => drill.at.getTime()))),
    code,
    depotId,
    runId,
  };
}

function rootCause(source: SourceFacts, _now: Date): string | null {
  if (source.gone) return source.newestPoint ? `orphan:${source.id}` : null;
  if (source.state === "paused") return null;
  if (source.burst) return `burst:${source.id}`;
  if (!source.hasPolicy) return `no-policy:${source.clientId}`;
  if (!source.keyConfirmed) return `key-not-confirmed:${source.clientId}`;
  if (source.unscheduled) return `no-next-run:${source.unscheduled}:${source.policyId}`;
  if (source.depotAwayUntil && (source.state === "exposed" || source.state === "slipping"))
    return `depot-away:${source.depotName}`;
  if (source.silent) return `machine-silent:${source.silent.machineId}`;
  if (source.lastOutcome === "failed") {
    if (source.connectionId && source.lastCode?.startsWith("source."))
      return `connection-failed:${source.connectionId}:${source.lastCode}`;
    // a quota is one client's; whatever else a depot answers, it answers to everybody
    if (source.lastCode?.startsWith("depot.") && source.lastCode !== "depot.quota" && source.depotId)
      return `depot-failed:${source.depotId}:${source.lastCode}`;
    const whose = source.lastCode === "depot.quota" ? source.clientId : source.id;
    return `run-failed:${whose}:${source.lastCode ?? "internal.error"}`;
  }
  if (source.state === "exposed" || (source.state === "slipping" && source.lastOutcome !== "caution")) {
    return `target-passed:${source.clientId}`;
  }
  if (source.lastOutcome === "caution")
    return `run-caution:${source.clientId}:${source.lastCode ?? "internal.error"}`;
  return null;
}

const clientsOf = (sources: readonly SourceFacts[]): string[] => [
  ...new Set(sources.map((source) => source.clientName)),
];

function names(sources: readonly SourceFacts[]): string {
  const clients = clientsOf(sources);
  return clients.length > 3
    ? `${clients.slice(0, 3).join(", ")} and ${clients.length - 3} more`
    : clients.join(", ");
}

function describeGroup(key: string, group: readonly SourceFacts[], now: Date): Cause {
  const kind = key.slice(0, key.indexOf(":")) as CauseKind;
  const first = group[0]!;
  const worst = group.reduce((a, b) => (RANK[b.state] > RANK[a.state] ? b : a)).state;
  const age = (since: Date | null) => (since ? formatDuration(now.getTime() - since.getTime()) : "");
  const who = group.length === 1 ? first.name : counted(group.length, "source");
  const oldest = group.reduce<Date | null>(
    (at, source) => (source.newestPoint && (!at || source.newestPoint < at) ? source.newestPoint : at),
    null,
  );
  const seen = first.silent?.seen ?? null;
  const lastPoint = oldest ? `newest point ${age(oldest)} old` : "no point yet";
  const base = {
    key,
    kind,
    state: worst,
    sourceIds: group.map((source) => source.id),
    clientNames: clientsOf(group),
    since: first.lastRunEnded,
    code: null as Code | null,
    depotId: null,
  };
  switch (kind) {
    case "burst": {
      const burst = first.burst!;
      return {
        ...base,
        state: "exposed",
        title: `${burst.machineName ?? first.name} changed ${percent(burst.changedShare)} of its files in one run, ${percent(burst.denserShare)} of them became unreadable`,
        detail: `${first.clientName} · most of it in ${burst.folder} · restore from a point before it`,
      };
    }
    case "machine-silent":
      return {
        ...base,
        title: seen
          ? `${first.silent!.machineName} has not been seen for ${age(seen)}`
          : `${first.silent!.machineName} has never reported`,
        detail: `${first.clientName} · ${lastPoint}`,
        since: seen,
        code: "machine.silent",
      };
    case "depot-failed":
      return {
        ...base,
        title: `${first.depotName}: ${lower(CODES[first.lastCode ?? "internal.error"].title)}, ${counted(group.length, "source")} ${group.length === 1 ? "is" : "are"} not kept`,
        detail: `${names(group)} · ${lastPoint}`,
        since: oldest,
        code: first.lastCode,
        depotId: first.depotId,
      };
    case "site-silent":
      return {
        ...base,
        title: `${first.siteName}: ${counted(group.length, "machine")} fell silent together ${age(seen)} ago`,
        detail: `${first.clientName} · its link or its power · ${lastPoint}`,
        since: seen,
        code: "machine.silent",
      };
    case "policy-change":
      return {
        ...base,
        title: `${who}: ${lower(CODES[first.lastCode ?? "internal.error"].title)} since “${first.policyName}” was changed`,
        detail: `${names(group)} · changed ${age(first.policyChanged)} ago · ${lastPoint}`,
        since: first.policyChanged,
        code: first.lastCode,
      };
    case "one-code":
      return {
        ...base,
        title: `${who} of ${counted(clientsOf(group).length, "client")}: ${lower(CODES[first.lastCode ?? "internal.error"].title)}`,
        detail: `${names(group)} · the same everywhere · ${first.lastOutcome === "caution" ? "each has a recovery point" : lastPoint}`,
        code: first.lastCode,
      };
    case "depot-away":
      return {
        ...base,
        title: `${first.depotName} has a planned absence for ${formatDuration(first.depotAwayUntil!.getTime() - now.getTime())} more: ${counted(group.length, "source")} ${group.length === 1 ? "waits" : "wait"}`,
        detail: `${names(group)} · ${lastPoint} · runs begin when it is back`,
        since: null,
      };
    case "connection-failed":
      return {
        ...base,
        title: `${first.connectionName}: ${lower(CODES[first.lastCode ?? "internal.error"].title)}, ${counted(group.length, "source")} ${group.length === 1 ? "is" : "are"} not kept`,
        detail: `${names(group)} · ${lastPoint}`,
        since: oldest,
        code: first.lastCode,
      };
    case "run-failed":
      return {
        ...base,
        title: `${who}: ${lower(CODES[first.lastCode ?? "internal.error"].title)}`,
        detail: `${names(group)} · last run failed · ${lastPoint}`,
        code: first.lastCode ?? "internal.error",
      };
    case "run-caution":
      return {
        ...base,
        title: `${who}: ${lower(CODES[first.lastCode ?? "internal.error"].title)}`,
        detail: `${names(group)} · a recovery point exists`,
        code: first.lastCode,
      };
    case "target-passed":
      return {
        ...base,
        title: `${who} of ${first.clientName} ${group.length === 1 ? "has missed its" : "have missed their"} target`,
        detail: `${lastPoint}, ${first.targetHours} h promised`,
        since: oldest,
      };
    case "no-policy":
      return {
        ...base,
        title: `${who} of ${first.clientName} ${group.length === 1 ? "has" : "have"} no policy`,
        detail: group
          .map((source) => source.name)
          .slice(0, 4)
          .join(", "),
      };
    case "no-next-run":
      return {
        ...base,
        title:
          first.unscheduled === "rules-incomplete"
            ? `${who}: no runs, “${first.policyName}” and the levels above it lack a clause`
            : `${who}: no next run, no schedule of “${first.policyName}” has a time left`,
        detail: `${names(group)} · ${lastPoint}`,
      };
    case "key-not-confirmed":
      return {
        ...base,
        title: `The key of ${first.clientName} is not confirmed: nothing runs`,
        detail: `${counted(group.length, "source")} ${group.length === 1 ? "is" : "are"} waiting`,
        code: "key.not-confirmed",
      };
    default:
      return {
        ...base,
        title: first.connectionId
          ? `${first.name} is not at ${first.connectionName} any more; its points remain`
          : `${first.name} has no machine any more; its points remain`,
        detail: `${first.clientName} · ${lastPoint}`,
      };
  }
}

const lower = (text: string): string => text.charAt(0).toLowerCase() + text.slice(1);
