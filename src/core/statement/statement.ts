import { DateTime } from "luxon";
import type { Outcome, ProtectionState } from "../protection/state";
import { formatBytes } from "../units/bytes";
import { type CsvCell, csvLine } from "../units/csv";
import { counted } from "../units/duration";

/** What a statement is computed from: plain rows of one client and one period. */
export interface StatementFacts {
  readonly clientName: string;
  readonly zone: string;
  /** The period: from the start of the first day to the end of the last, as moments. */
  readonly from: Date;
  readonly to: Date;
  readonly sources: readonly {
    readonly id: string;
    readonly name: string;
    readonly site: string;
    readonly state: ProtectionState;
    readonly targetHours: number | null;
    readonly newestPoint: Date | null;
    readonly points: number;
    readonly bytes: number;
    readonly added: number;
  }[];
  readonly runs: readonly {
    readonly sourceId: string;
    readonly kind: "backup" | "restore";
    readonly ended: Date;
    readonly outcome: Outcome;
    /** What was said about it, when it was not clean. */
    readonly cause: string | null;
    readonly items: number;
    readonly bytes: number;
    readonly by: string | null;
  }[];
  readonly spaceUsed: number;
  readonly quota: number | null;
}

export interface StatementDay {
  readonly day: string;
  readonly outcomes: Record<Outcome, number>;
}

export interface Statement {
  readonly clientName: string;
  readonly zone: string;
  readonly firstDay: string;
  readonly lastDay: string;
  readonly headline: string;
  readonly sources: StatementFacts["sources"];
  readonly days: readonly StatementDay[];
  readonly spaceUsed: number;
  readonly spaceAdded: number;
  readonly quota: number | null;
  readonly restores: readonly { readonly at: Date; readonly source: string; readonly sentence: string }[];
  readonly exceptions: readonly { readonly day: string; readonly sentence: string }[];
}

const none = (): Record<Outcome, number> => ({ clean: 0, caution: 0, failed: 0, stopped: 0, missed: 0 });

/** Computes the statement of a client for a period. Days are days of the client's zone. */
export function composeStatement(facts: StatementFacts): Statement {
  const dayOf = (moment: Date) => DateTime.fromJSDate(moment, { zone: facts.zone }).toISODate()!;
  const firstDay = dayOf(facts.from);
  const lastDay = dayOf(new Date(facts.to.getTime() - 1));
  const days = new Map<string, Record<Outcome, number>>();
  for (
    let day = DateTime.fromISO(firstDay, { zone: "utc" });
    day.toISODate()! <= lastDay;
    day = day.plus({ days: 1 })
  ) {
    days.set(day.toISODate()!, none());
  }
  const nameOf = new Map(facts.sources.map((source) => [source.id, source.name]));
  const exceptions = new Map<string, { day: string; cause: string; outcome: Outcome; names: Set<string> }>();
  for (const run of facts.runs) {
    const day = dayOf(run.ended);
    if (run.kind !== "backup") continue;
    const cell = days.get(day);
    if (cell) cell[run.outcome] += 1;
    if (run.outcome === "clean") continue;
    const cause = run.cause ?? (run.outcome === "stopped" ? "The run was stopped" : "No cause was recorded");
    const key = `${day} ${run.outcome} ${cause}`;
    const exception = exceptions.get(key) ?? { day, cause, outcome: run.outcome, names: new Set<string>() };
    exceptions.set(key, exception);
    exception.names.add(nameOf.get(run.sourceId) ?? "a source that is no longer there");
  }
  return {
    clientName: facts.clientName,
    zone: facts.zone,
    firstDay,
    lastDay,
    headline: headline(facts.sources),
    sources: facts.sources,
    days: [...days].map(([day, outcomes]) => ({ day, outcomes })),
    spaceUsed: facts.spaceUsed,
    spaceAdded: facts.sources.reduce((sum, source) => sum + source.added, 0),
    quota: facts.quota,
    restores: facts.runs
      .filter((run) => run.kind === "restore")
      .map((run) => ({
        at: run.ended,
        source: nameOf.get(run.sourceId) ?? "a source that is no longer there",
        sentence: `${counted(run.items, "item")}, ${formatBytes(run.bytes)}, ${run.outcome}${run.by ? `, asked for by ${run.by}` : ""}`,
      })),
    exceptions: joinDays(
      [...exceptions.values()]
        .sort((a, b) => a.day.localeCompare(b.day))
        .map(({ day, cause, outcome, names }) => ({
          day,
          sentence: exceptionSentence(outcome, cause, [...names]),
        })),
    ),
  };
}

/** The same sentence on several days is said once, with the first day, the last and how often. */
function joinDays(
  exceptions: readonly { day: string; sentence: string }[],
): { day: string; sentence: string }[] {
  const days = new Map<string, string[]>();
  for (const { day, sentence } of exceptions) days.set(sentence, [...(days.get(sentence) ?? []), day]);
  return [...days].map(([sentence, on]) => ({
    day: on.length === 1 ? on[0]! : `${on[0]} to ${on.at(-1)}, ${on.length} days`,
    sentence,
  }));
}

const AFTER: Record<Outcome, string> = {
  clean: "",
  caution: "The recovery point was made all the same.",
  failed: "No recovery point was made that time.",
  stopped: "No recovery point was made that time.",
  missed: "The run did not take place.",
};

function exceptionSentence(outcome: Outcome, cause: string, names: readonly string[]): string {
  const who =
    names.length > 3 ? `${names.slice(0, 3).join(", ")} and ${names.length - 3} more` : names.join(", ");
  return `${who}: ${cause.replace(/\.$/, "")}. ${AFTER[outcome]}`;
}

function headline(sources: StatementFacts["sources"]): string {
  if (sources.length === 0) return "Nothing is protected yet.";
  const kept = sources.filter((source) => source.state === "kept").length;
  if (kept === sources.length) {
    return kept === 1
      ? "The one source is kept within its target."
      : `All ${kept} sources are kept within their target.`;
  }
  const rest = (["exposed", "slipping", "never kept", "paused"] as const)
    .map((state) => [sources.filter((source) => source.state === state).length, state] as const)
    .filter(([count]) => count > 0)
    .map(([count, state]) => `${count} ${state}`);
  return `${kept} of ${counted(sources.length, "source")} ${kept === 1 ? "is" : "are"} kept within target; ${rest.join(", ")}.`;
}

/** The statement as CSV (RFC 4180), one section after another, each with a heading row. Sizes in bytes, times in UTC. */
export function statementCsv(statement: Statement): string {
  const rows: CsvCell[][] = [
    ["Statement", statement.clientName, statement.firstDay, statement.lastDay, statement.zone],
    [],
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
    ["Exception on", "What happened"],
    ...statement.exceptions.map((exception) => [exception.day, exception.sentence]),
  ];
  return rows.map(csvLine).join("");
}
