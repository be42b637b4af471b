import { DateTime } from "luxon";
import { type DrillFigures, drillSentence } from "../drill/drill";
import type { SourceId } from "../ids";
import { type Outcome, type ProtectionState, protectionState } from "../protection/state";
import { formatBytes } from "../units/bytes";
import { type CsvCell, csvLine } from "../units/csv";
import { counted } from "../units/duration";

/** One source of a client, as a statement is computed from it. */
export interface StatementSource {
  readonly id: string;
  readonly name: string;
  readonly site: string;
  /** The state of now. */
  readonly state: ProtectionState;
  readonly targetHours: number | null;
  readonly newestPoint: Date | null;
  readonly points: number;
  readonly bytes: number;
  /** Bytes that its points of the period added. */
  readonly added: number;
  /** Since when it is looked after here; no state is told of days before. */
  readonly since: Date;
  /** The newest point and the last outcome before the period. */
  readonly newestBefore: Date | null;
  readonly outcomeBefore: Outcome | null;
  readonly nextRun: Date | null;
}

/** Backup runs of a source on one day that ended alike. */
export interface StatementRuns {
  readonly sourceId: SourceId;
  readonly day: string;
  readonly outcome: Outcome;
  /** What was said about it, when it was not clean. */
  readonly cause: string | null;
  readonly count: number;
  /** When the last of them was due. */
  readonly last: Date;
}

/** What somebody wrote to an exception: what was done about it, or what the client says to it. */
export interface StatementWord {
  readonly id: string;
  /** `exceptionKey` of what it is about. */
  readonly about: string;
  readonly day: string;
  readonly side: "provider" | "client";
  readonly by: string;
  readonly at: Date;
  readonly text: string;
}

/** What a statement is computed from: plain rows of one client and one period. Days are days of the client's zone. */
export interface StatementFacts {
  readonly clientName: string;
  readonly zone: string;
  /** The period: from the start of the first day to the end of the last, as moments. */
  readonly from: Date;
  readonly to: Date;
  readonly now: Date;
  readonly sources: readonly StatementSource[];
  readonly runs: readonly StatementRuns[];
  /** The newest point that a source got on a day. */
  readonly pointDays: readonly { readonly sourceId: SourceId; readonly day: string; readonly newest: Date }[];
  readonly restores: readonly {
    readonly sourceId: SourceId;
    readonly at: Date;
    readonly outcome: Outcome;
    readonly items: number;
    readonly bytes: number;
    readonly by: string | null;
  }[];
  readonly checks: readonly {
    readonly at: Date;
    readonly outcome: "clean" | "damage" | "failed";
  }[];
  readonly drills: readonly {
    readonly sourceId: SourceId;
    readonly at: Date;
    readonly outcome: Outcome;
    /** What was said about one that did not finish, or found something. */
    readonly cause: string | null;
    readonly figures: Partial<DrillFigures>;
  }[];
  readonly words: readonly StatementWord[];
  /** Alarms of mass encryption that stood at some time of the period. */
  readonly alarms: readonly StatementAlarm[];
  readonly spaceUsed: number;
  readonly quota: number | null;
}

/** Files of a source seem to have been encrypted. */
export interface StatementAlarm {
  readonly sourceId: SourceId;
  readonly at: Date;
  /** Shares from 0 to 1: of all files those that changed, of those the ones that became unreadable. */
  readonly changedShare: number;
  readonly denserShare: number;
  readonly folder: string;
  /** The last recovery point before. */
  readonly before: Date | null;
  /** When somebody dismissed it, and who; null while it stands. */
  readonly liftedAt: Date | null;
  readonly liftedBy: string | null;
}

export interface StatementDay {
  readonly day: string;
  readonly outcomes: Record<Outcome, number>;
}

export interface StatementException {
  /** Names it across periods. */
  readonly key: string;
  readonly firstDay: string;
  readonly lastDay: string;
  /** The day, or the first, the last and how many. */
  readonly when: string;
  readonly sentence: string;
  readonly words: readonly StatementWord[];
}

export interface Statement {
  readonly clientName: string;
  readonly zone: string;
  readonly firstDay: string;
  readonly lastDay: string;
  /** Whether the period is over; then states are those of its end. */
  readonly over: boolean;
  readonly headline: string;
  /** Alarms of the period: what happened, and what was done, in sentences for the client. They come first. */
  readonly alarms: readonly {
    readonly at: Date;
    readonly standing: boolean;
    readonly sentences: readonly string[];
  }[];
  readonly sources: readonly (StatementSource & {
    /** The state at the end of each day; null before it was looked after, and for days to come. */
    readonly states: readonly (ProtectionState | null)[];
  })[];
  readonly days: readonly StatementDay[];
  readonly spaceUsed: number;
  readonly spaceAdded: number;
  readonly quota: number | null;
  readonly restores: readonly { readonly at: Date; readonly source: string; readonly sentence: string }[];
  readonly checks: string;
  /** What drills of the period proved, in a sentence, and each of them. */
  readonly drilled: string;
  readonly drills: readonly {
    readonly at: Date;
    readonly source: string;
    readonly outcome: Outcome;
    readonly sentence: string;
    /** The check sum of all that came back; null where nothing did. */
    readonly evidence: string | null;
  }[];
  readonly exceptions: readonly StatementException[];
  readonly nextSteps: readonly string[];
}

const none = (): Record<Outcome, number> => ({ clean: 0, caution: 0, failed: 0, stopped: 0, missed: 0 });
const GONE = "a source that is no longer there";

/** What names an exception, whatever the period: how runs ended, and why. */
export const exceptionKey = (outcome: Outcome, cause: string | null): string =>
  `${outcome} ${cause ?? (outcome === "stopped" ? "The run was stopped" : "No cause was recorded")}`;

/** Computes the statement of a client for a period. */
export function composeStatement(facts: StatementFacts): Statement {
  const dayOf = (moment: Date) => DateTime.fromJSDate(moment, { zone: facts.zone }).toISODate()!;
  const firstDay = dayOf(facts.from);
  const lastDay = dayOf(new Date(facts.to.getTime() - 1));
  const days = new Map<string, Record<Outcome, number>>();
  const last = DateTime.fromISO(lastDay, { zone: "utc" });
  for (let day = DateTime.fromISO(firstDay, { zone: "utc" }); day <= last; day = day.plus({ days: 1 }))
    days.set(day.toISODate()!, none());
  for (const run of facts.runs) {
    const cell = days.get(run.day);
    if (cell) cell[run.outcome] += run.count;
  }
  const over = facts.to <= facts.now;
  const states = statesByDay(facts, [...days.keys()]);
  const sources = facts.sources.map((source) => {
    const own = states.get(source.id)!;
    return { ...source, state: over ? (own.at(-1) ?? source.state) : source.state, states: own };
  });
  const nameOf = new Map(facts.sources.map((source) => [source.id, source.name]));
  const end = new Date(Math.min(facts.to.getTime(), facts.now.getTime()));
  const standingAlarms = facts.alarms
    .filter((alarm) => stands(alarm, end))
    .map((alarm) => nameOf.get(alarm.sourceId) ?? GONE);
  const spaceAdded = facts.sources.reduce((sum, source) => sum + source.added, 0);
  return {
    clientName: facts.clientName,
    zone: facts.zone,
    firstDay,
    lastDay,
    over,
    headline: headline(sources, standingAlarms),
    alarms: facts.alarms.map((alarm) => ({
      at: alarm.at,
      standing: stands(alarm, end),
      sentences: alarmSentences(alarm, facts, nameOf),
    })),
    sources,
    days: [...days].map(([day, outcomes]) => ({ day, outcomes })),
    spaceUsed: facts.spaceUsed,
    spaceAdded,
    quota: facts.quota,
    restores: facts.restores.map((restore) => ({
      at: restore.at,
      source: nameOf.get(restore.sourceId) ?? GONE,
      sentence: `${counted(restore.items, "item")}, ${formatBytes(restore.bytes)}, ${restore.outcome}${restore.by ? `, requested by ${restore.by}` : ""}`,
    })),
    checks: checksSentence(facts.checks),
    drilled: drillsSentence(facts),
    drills: facts.drills.map((drill) => ({
      at: drill.at,
      source: nameOf.get(drill.sourceId) ?? GONE,
      outcome: drill.outcome,
      sentence: drill.figures.moment
        ? `the point of ${DateTime.fromISO(drill.figures.moment, { zone: facts.zone }).toFormat("yyyy-MM-dd HH:mm")} from ${drill.figures.depotName}: ${drillSentence(drill.figures)}`
        : (drill.cause ?? "it did not finish"),
      evidence: drill.figures.evidence ?? null,
    })),
    exceptions: exceptionsOf(facts, nameOf),
    nextSteps: nextSteps(facts, spaceAdded, daysUntil(facts, [...days.keys()], end)),
  };
}

/** The state of each source at the end of each day, from its points and outcomes; by the target that it has now. */
function statesByDay(
  facts: StatementFacts,
  days: readonly string[],
): Map<string, readonly (ProtectionState | null)[]> {
  const key = (sourceId: SourceId, day: string) => `${sourceId} ${day}`;
  const points = new Map(facts.pointDays.map((row) => [key(row.sourceId, row.day), row.newest]));
  const outcomes = new Map<string, StatementRuns>();
  for (const run of facts.runs) {
    if (run.outcome === "stopped") continue;
    const there = outcomes.get(key(run.sourceId, run.day));
    if (!there || there.last < run.last) outcomes.set(key(run.sourceId, run.day), run);
  }
  const ends = days.map((day) =>
    DateTime.fromISO(day, { zone: facts.zone }).plus({ days: 1 }).startOf("day").toJSDate(),
  );
  return new Map(
    facts.sources.map((source) => {
      let newestPoint = source.newestBefore;
      let lastOutcome = source.outcomeBefore;
      const states = days.map((day, i) => {
        const end = new Date(Math.min(ends[i]!.getTime(), facts.now.getTime()));
        newestPoint = points.get(key(source.id, day)) ?? newestPoint;
        lastOutcome = outcomes.get(key(source.id, day))?.outcome ?? lastOutcome;
        const begins = i === 0 ? facts.from : ends[i - 1]!;
        if (begins >= facts.now || (source.since >= end && !newestPoint)) return null;
        // the day that goes on is told as it stands
        if (ends[i]! > facts.now) return source.state;
        const alarm = facts.alarms.some((one) => one.sourceId === source.id && stands(one, end));
        return protectionState(
          { newestPoint, lastOutcome, targetHours: source.targetHours, paused: false, alarm },
          end,
        );
      });
      return [source.id, states];
    }),
  );
}

/** Whether an alarm stood at a moment. */
const stands = (alarm: StatementAlarm, at: Date): boolean =>
  alarm.at <= at && (alarm.liftedAt === null || alarm.liftedAt > at);

/** What happened, what is safe, and what was done, for somebody who does not know the trade. */
function alarmSentences(
  alarm: StatementAlarm,
  facts: StatementFacts,
  nameOf: ReadonlyMap<string, string>,
): readonly string[] {
  const said = (moment: Date) =>
    DateTime.fromJSDate(moment, { zone: facts.zone }).toFormat("d LLLL yyyy, HH:mm");
  const share = (value: number) => `${Math.round(value * 100)} %`;
  const restored = facts.restores.filter(
    (restore) =>
      restore.sourceId === alarm.sourceId &&
      restore.at >= alarm.at &&
      (restore.outcome === "clean" || restore.outcome === "caution"),
  );
  return [
    `Possible encryption attack on ${nameOf.get(alarm.sourceId) ?? GONE}: on ${said(alarm.at)}, ${share(alarm.changedShare)} of its files had changed since the run before, and ${share(alarm.denserShare)} of those can no longer be read. Most are in ${alarm.folder}.`,
    alarm.before
      ? `The files of ${said(alarm.before)} and before are kept: those recovery points were locked, and none was deleted.`
      : "No recovery point from before it exists.",
    ...restored.map(
      (restore) =>
        `${counted(restore.items, "item")} (${formatBytes(restore.bytes)}) were restored on ${said(restore.at)}.`,
    ),
    alarm.liftedAt
      ? `${alarm.liftedBy} reviewed the alarm and dismissed it on ${said(alarm.liftedAt)}.`
      : "The alarm has not been dismissed yet. Until then the source counts as exposed, and nothing of it is deleted.",
  ];
}

/** What was not clean, one for each cause, with the days it happened on and what was written to it. */
function exceptionsOf(
  facts: StatementFacts,
  nameOf: ReadonlyMap<string, string>,
): readonly StatementException[] {
  const found = new Map<string, { outcome: Outcome; cause: string; names: Set<string>; days: Set<string> }>();
  for (const run of facts.runs) {
    if (run.outcome === "clean") continue;
    const key = exceptionKey(run.outcome, run.cause);
    const there = found.get(key) ?? {
      outcome: run.outcome,
      cause: key.slice(run.outcome.length + 1),
      names: new Set<string>(),
      days: new Set<string>(),
    };
    found.set(key, there);
    there.names.add(nameOf.get(run.sourceId) ?? GONE);
    there.days.add(run.day);
  }
  return [...found]
    .map(([key, { outcome, cause, names, days }]) => {
      const on = [...days].sort();
      const [firstDay, lastDay] = [on[0]!, on.at(-1)!];
      return {
        key,
        firstDay,
        lastDay,
        when: on.length === 1 ? firstDay : `${firstDay} to ${lastDay}, ${on.length} days`,
        sentence: exceptionSentence(outcome, cause, [...names].sort()),
        words: facts.words.filter(
          (word) => word.about === key && word.day >= firstDay && word.day <= lastDay,
        ),
      };
    })
    .sort((a, b) => a.firstDay.localeCompare(b.firstDay) || a.key.localeCompare(b.key));
}

function checksSentence(checks: StatementFacts["checks"]): string {
  if (checks.length === 0) return "No check of the recovery points ended in this period.";
  const bad = checks.filter((check) => check.outcome !== "clean");
  const done = `${counted(checks.length, "check")} of the recovery points`;
  if (bad.length === 0) return `${done}: nothing was found damaged or missing.`;
  const damage = bad.filter((check) => check.outcome === "damage").length;
  const failed = bad.length - damage;
  return `${done}: ${[damage ? `${damage} found damage` : "", failed ? `${failed} did not finish` : ""].filter(Boolean).join(", ")}.`;
}

function drillsSentence({ drills, sources }: StatementFacts): string {
  if (drills.length === 0) return "No drill was done in this period.";
  const there = new Set(sources.map((source) => source.id));
  const proven = new Set(
    drills
      .filter((drill) => drill.outcome === "clean" && there.has(drill.sourceId))
      .map((one) => one.sourceId),
  );
  const bad = drills.filter((drill) => drill.outcome !== "clean").length;
  return `${counted(drills.length, "drill")}: ${proven.size} of ${counted(sources.length, "source")} ${proven.size === 1 ? "was" : "were"} restored on purpose and came back as ${proven.size === 1 ? "it was" : "they were"}${bad ? `; ${bad} ${bad === 1 ? "drill" : "drills"} failed` : ""}.`;
}

/** Days of the period that had begun by a moment: what is still to come has added nothing. */
const daysUntil = (facts: StatementFacts, days: readonly string[], at: Date): number =>
  Math.max(1, days.filter((day) => DateTime.fromISO(day, { zone: facts.zone }).toJSDate() < at).length);

/** What is to be expected after the period, of what is planned and at the pace that it had. */
function nextSteps(facts: StatementFacts, added: number, days: number): string[] {
  const planned = facts.sources.filter((source) => source.nextRun && source.state !== "paused");
  const first = planned.map((source) => source.nextRun!).sort((a, b) => a.getTime() - b.getTime())[0];
  const next: string[] = [];
  if (first)
    next.push(
      `The next run is planned for ${DateTime.fromJSDate(first, { zone: facts.zone }).toFormat("yyyy-MM-dd HH:mm")}; ${planned.length === 1 ? "one source has" : `${planned.length} sources have`} one planned.`,
    );
  const idle = facts.sources.filter((source) => !source.nextRun || source.state === "paused");
  if (idle.length)
    next.push(
      `No run is planned for ${idle
        .slice(0, 3)
        .map((source) => source.name)
        .join(", ")}${idle.length > 3 ? ` and ${idle.length - 3} more` : ""}.`,
    );
  if (facts.quota !== null && added > 0) {
    const left = Math.floor(Math.max(0, facts.quota - facts.spaceUsed) / (added / days));
    if (left < 400)
      next.push(`At the pace of this period the space granted lasts for ${counted(left, "day")}.`);
  }
  return next;
}

const AFTER: Record<Outcome, string> = {
  clean: "",
  caution: "The recovery point exists nevertheless.",
  failed: "No recovery point was created.",
  stopped: "No recovery point was created.",
  missed: "The run did not take place.",
};

function exceptionSentence(outcome: Outcome, cause: string, names: readonly string[]): string {
  const who =
    names.length > 3 ? `${names.slice(0, 3).join(", ")} and ${names.length - 3} more` : names.join(", ");
  return `${who}: ${cause.replace(/\.$/, "")}. ${AFTER[outcome]}`;
}

function headline(sources: readonly StatementSource[], alarms: readonly string[]): string {
  if (alarms.length)
    return `Possible encryption attack on ${alarms.join(", ")}: many files changed at once and can no longer be read. ${headline(sources, [])}`;
  if (sources.length === 0) return "Nothing is protected yet.";
  const kept = sources.filter((source) => source.state === "kept").length;
  if (kept === sources.length) {
    return kept === 1
      ? "The source is kept within its target."
      : `All ${kept} sources are kept within their target.`;
  }
  const rest = (["exposed", "slipping", "never kept", "paused"] as const)
    .map((state) => [sources.filter((source) => source.state === state).length, state] as const)
    .filter(([count]) => count > 0)
    .map(([count, state]) => `${count} ${state}`);
  const verb = kept === 1 || sources.length === 1 ? "is" : "are";
  return `${kept} of ${counted(sources.length, "source")} ${verb} kept within target; ${rest.join(", ")}.`;
}

/** The statement as CSV (RFC 4180), one section after another, each with a heading row. Sizes in bytes, times in UTC. */
export function statementCsv(statement: Statement): string {
  const rows: CsvCell[][] = [
    ["Statement", statement.clientName, statement.firstDay, statement.lastDay, statement.zone],
    [],
    ...(statement.alarms.length
      ? [
          ["Alarm at", "What happened"],
          ...statement.alarms.map((one) => [one.at.toISOString(), one.sentences.join(" ")]),
          [],
        ]
      : []),
    ["Source", "Site", "State", "Target hours", "Newest point", "Points", "Bytes", "Added bytes"],
    ...statement.sources.map((source) => [
      source.name,
      source.site,
      source.state,
      source.targetHours,
      source.newestPoint?.toISOString() ?? null,
      source.points,
      source.bytes,
      source.added,
    ]),
    [],
    ["Day", "Clean", "Caution", "Failed", "Stopped", "Missed"],
    ...statement.days.map(({ day, outcomes }) => [
      day,
      outcomes.clean,
      outcomes.caution,
      outcomes.failed,
      outcomes.stopped,
      outcomes.missed,
    ]),
    [],
    ["Space used bytes", "Space added bytes", "Quota bytes"],
    [statement.spaceUsed, statement.spaceAdded, statement.quota],
    [],
    ["Restore at", "Source", "What"],
    ...statement.restores.map((restore) => [restore.at.toISOString(), restore.source, restore.sentence]),
    [],
    ["Checks"],
    [statement.checks],
    [],
    ["Drill at", "Source", "Outcome", "What", "BLAKE3 of the list of files"],
    ...statement.drills.map((drill) => [
      drill.at.toISOString(),
      drill.source,
      drill.outcome,
      drill.sentence,
      drill.evidence,
    ]),
    [],
    ["Exception on", "What happened", "Action taken"],
    ...statement.exceptions.map((exception) => [
      exception.when,
      exception.sentence,
      exception.words.map((word) => `${word.by}: ${word.text}`).join("\n"),
    ]),
    [],
    ["State at the end of", ...statement.days.map((day) => day.day)],
    ...statement.sources.map((source) => [source.name, ...source.states]),
    [],
    ["Next runs"],
    ...statement.nextSteps.map((sentence) => [sentence]),
  ];
  return rows.map(csvLine).join("");
}
