import type { SourceId } from "../ids";
import { horizonDays, momentsOf, perDay } from "./occurrences";
import { lagOf, type Plan, type Schedule } from "./plan";
import { isInterval, parseRule } from "./rule";
import { intoSpans, openSpan, type Span, spansOf } from "./windows";

export interface Due {
  readonly at: Date;
  readonly pass: Schedule["pass"];
}

const MINUTE_MS = 60_000;
const DAY_MS = 86_400_000;
/** The longest that one can wait for a window to open. */
const LONGEST_WAIT_MS = 8 * DAY_MS;

/**
 * The next due moments strictly after `after`, at most `count` of them. An interval counts from `anchor` (the last due
 * time); without one it is due at once. What would be due outside the windows is due when the next one opens, and what
 * falls together runs once, as a full pass if one of them is. With `until`, none after it.
 */
export function nextRuns(
  plan: Plan,
  zone: string,
  after: Date,
  count: number,
  {
    anchor = null,
    sourceId = null,
    until = null,
  }: {
    readonly anchor?: Date | null;
    readonly sourceId?: SourceId | null;
    readonly until?: Date | null;
  } = {},
): Due[] {
  const lag = lagOf(plan, sourceId);
  const byTime = new Map<number, Schedule["pass"]>();
  for (const schedule of plan.schedules) {
    for (const at of momentsAfter(schedule.rule, plan, zone, after, count, anchor, lag, until)) {
      const pass = byTime.get(at) === "full" ? "full" : schedule.pass;
      byTime.set(at, pass);
    }
  }
  return [...byTime]
    .sort(([a], [b]) => a - b)
    .slice(0, count)
    .map(([at, pass]) => ({ at: new Date(at), pass }));
}

/** Due moments of one rule, with windows and lag. Looks first a little ahead and then farther. */
function momentsAfter(
  rule: string,
  plan: Plan,
  zone: string,
  after: Date,
  count: number,
  anchor: Date | null,
  lag: number,
  until: Date | null,
): number[] {
  const interval = isInterval(parseRule(rule));
  const windowed = plan.windows.length > 0;
  // the last due time of an interval lies at the source's own part already
  const late = interval && !windowed ? 0 : lag;
  const counted = anchor ?? new Date(Math.ceil((after.getTime() + 1) / MINUTE_MS) * MINUTE_MS + lag);
  // what was due before may have been moved past `after` by a window or its lag
  const back = late + (windowed && !interval ? LONGEST_WAIT_MS : 0);
  const from = new Date(after.getTime() - back);
  const parsed = parseRule(rule);
  const horizon = back + horizonDays(parsed) * DAY_MS;
  let before = 0;
  for (let reach = back + (3 + ((count + 1) / perDay(parsed)) * 1.05) * DAY_MS; ; reach *= 3) {
    const last = until !== null && from.getTime() + reach >= until.getTime();
    // moments before `to` are asked for
    const to = last ? new Date(until.getTime() + 1) : new Date(from.getTime() + reach);
    const spans = spansOf(plan.windows, zone, from, new Date(to.getTime() + LONGEST_WAIT_MS));
    const most = count + 2 + Math.ceil(back / MINUTE_MS);
    const found = new Set<number>();
    for (const base of momentsOf(rule, zone, counted, from, to, spans, most)) {
      const at = place(base, spans, late);
      if (at !== null && at > after.getTime() && (until === null || at <= until.getTime())) found.add(at);
    }
    // what has not fired by then never does
    if (last || found.size >= count || (reach >= horizon && found.size === before))
      return [...found].sort((a, b) => a - b).slice(0, count);
    before = found.size;
  }
}

/** Where a due time comes to lie: inside a window, and at the source's own part of it if that is inside too. */
function place(base: Date, spans: readonly Span[] | null, lag: number): number | null {
  const opened = intoSpans(spans, base);
  if (!opened) return null;
  const late = new Date(opened.getTime() + lag);
  return intoSpans(spans, late)?.getTime() === late.getTime() ? late.getTime() : opened.getTime();
}

/** Until when a run that begins now may go on: its window's end, or so many hours; null where nothing ends it. */
export function stopsAt(
  plan: Pick<Plan, "windows">,
  stopAfterHours: number | null,
  zone: string,
  start: Date,
): Date | null {
  const ends = [openSpan(plan.windows, zone, start)?.closes?.getTime()];
  if (stopAfterHours !== null) ends.push(start.getTime() + stopAfterHours * 3_600_000);
  const known = ends.filter((end) => end !== undefined);
  return known.length ? new Date(Math.min(...known)) : null;
}

/**
 * The longest pause between the next sixty due moments in hours, or null where nothing is due by itself. By a clock that
 * does not change: a night with an hour more is no reason for advice.
 */
export function longestPause(plan: Plan, now: Date): number | null {
  const due = nextRuns({ ...plan, spreadMinutes: 0 }, "UTC", now, 60, { anchor: now });
  if (due.length < 2) return null;
  const pauses = due.slice(1).map(({ at }, i) => (at.getTime() - due[i]!.at.getTime()) / 3_600_000);
  return Math.max(...pauses);
}
