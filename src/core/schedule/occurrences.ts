import { DateTime } from "luxon";
import { RRuleTemporal } from "rrule-temporal";
import { momentOfWall, wallOf } from "./local-time";
import { formatRule, isInterval, parseRule, type Rule, stepMinutes, timesOf } from "./rule";
import type { Weekday } from "./weekday";
import type { Span } from "./windows";

/** Where counting by weeks, months or several days begins: a Monday, the first of a month and of a year. */
const COUNTS_FROM = "20240101T000000Z";
const MINUTE_MS = 60_000;
const DAY_MS = 86_400_000;

const known = new Map<string, RRuleTemporal>();
function compiled(rule: Rule): RRuleTemporal {
  const text = formatRule({
    ...rule,
    hours: rule.hours.length ? rule.hours : [0],
    minutes: rule.minutes.length ? rule.minutes : [0],
  });
  const found = known.get(text);
  if (found) return found;
  // without a day of its own a weekly rule means Monday, a monthly the first
  const made = new RRuleTemporal({ rruleString: `DTSTART:${COUNTS_FROM}\nRRULE:${text}` });
  if (known.size > 500) known.clear();
  known.set(text, made);
  return made;
}

/** Wall times of a rule, as if they were UTC, from one to another; by the library of RFC 5545. */
export const wallsByLibrary = (rule: Rule, from: number, to: number): number[] =>
  compiled(rule)
    .between(new Date(from), new Date(to), true)
    .map((time) => time.epochMilliseconds);

const MONDAY = Date.UTC(2024, 0, 1);

/** The same for days and weeks, which most rules are, without the library: a hundredth of its time. */
function wallsByDay(rule: Rule, from: number, to: number): number[] {
  const times = timesOf(rule).map((time) => {
    const [hour, minute] = time.split(":").map(Number) as [number, number];
    return (hour * 60 + minute) * MINUTE_MS;
  });
  const weekdays = new Set(rule.days.map(({ day }) => day as number));
  if (rule.frequency === "WEEKLY" && weekdays.size === 0) weekdays.add(1);
  const found: number[] = [];
  for (let day = Math.floor(from / DAY_MS) * DAY_MS; day <= to; day += DAY_MS) {
    const since = Math.round((day - MONDAY) / DAY_MS);
    const count = rule.frequency === "DAILY" ? since : Math.floor(since / 7);
    if (count < 0 || count % rule.interval !== 0) continue;
    if (weekdays.size && !weekdays.has((((since % 7) + 7) % 7) + 1)) continue;
    if (rule.months.length && !rule.months.includes(new Date(day).getUTCMonth() + 1)) continue;
    for (const time of times) if (day + time >= from && day + time <= to) found.push(day + time);
  }
  return found;
}

/** Wall times of a rule by the clock. */
export const wallsOf = (rule: Rule, from: number, to: number): number[] =>
  (rule.frequency === "DAILY" || rule.frequency === "WEEKLY") &&
  rule.monthDays.length + rule.positions.length === 0
    ? wallsByDay(rule, from, to)
    : wallsByLibrary(rule, from, to);

/**
 * Moments of a rule by the clock, from `from` up to and without `to`, in order. The rule is worked out for local times
 * first and these are put into the zone then, so that a time which a clock change removes runs at the next that is there.
 */
export function clockMoments(rule: Rule, zone: string, from: Date, to: Date): Date[] {
  const slack = 3 * 3_600_000;
  const moments = wallsOf(rule, wallOf(from, zone) - slack, wallOf(to, zone) + slack)
    .map((wall) => momentOfWall(wall, zone))
    .filter((moment) => moment >= from.getTime() && moment < to.getTime());
  return [...new Set(moments)].sort((a, b) => a - b).map((moment) => new Date(moment));
}

/** Whether an interval runs at this local time; what it says of days, months and hours. */
function suits(rule: Rule, local: DateTime): "yes" | "other day" | "other hour" | "other minute" {
  if (rule.months.length && !rule.months.includes(local.month)) return "other day";
  if (rule.days.length && !rule.days.some(({ day }) => day === (local.weekday as Weekday)))
    return "other day";
  if (rule.monthDays.length) {
    const { day, daysInMonth } = local;
    if (!rule.monthDays.some((one) => one === day || (one < 0 && (daysInMonth ?? 31) + 1 + one === day)))
      return "other day";
  }
  if (rule.hours.length && !rule.hours.includes(local.hour)) return "other hour";
  if (rule.minutes.length && !rule.minutes.includes(local.minute)) return "other minute";
  return "yes";
}

/** Moments of an interval counted from `anchor`, from `from` up to and without `to`, at most `most` of them. */
export function intervalMoments(
  rule: Rule,
  zone: string,
  anchor: Date,
  from: Date,
  to: Date,
  most: number,
): Date[] {
  const step = stepMinutes(rule) * MINUTE_MS;
  const plain = !(
    rule.days.length +
    rule.months.length +
    rule.monthDays.length +
    rule.hours.length +
    rule.minutes.length
  );
  const onGrid = (at: number) =>
    anchor.getTime() + Math.max(0, Math.ceil((at - anchor.getTime()) / step)) * step;
  const found: Date[] = [];
  for (let at = onGrid(from.getTime()); at < to.getTime() && found.length < most; ) {
    if (plain) {
      found.push(new Date(at));
      at += step;
      continue;
    }
    const local = DateTime.fromMillis(at, { zone });
    const verdict = suits(rule, local);
    if (verdict === "yes") found.push(new Date(at));
    if (verdict === "other day")
      at = Math.max(at + step, onGrid(local.plus({ days: 1 }).startOf("day").toMillis()));
    else if (verdict === "other hour")
      at = Math.max(at + step, onGrid(local.plus({ hours: 1 }).startOf("hour").toMillis()));
    else at += step;
  }
  return found;
}

/**
 * Moments of any rule from `from` up to `to`. An interval counts from `anchor`; inside windows it counts anew from each
 * opening.
 */
export function momentsOf(
  ruleText: string,
  zone: string,
  anchor: Date,
  from: Date,
  to: Date,
  spans: readonly Span[] | null,
  most: number,
): Date[] {
  const rule = parseRule(ruleText);
  if (!isInterval(rule)) return clockMoments(rule, zone, from, to);
  if (!spans) return intervalMoments(rule, zone, anchor, from, to, most);
  const found: Date[] = [];
  for (const span of spans) {
    if (found.length >= most) break;
    const end = span.closes < to ? span.closes : to;
    found.push(...intervalMoments(rule, zone, span.opens, from > span.opens ? from : span.opens, end, most));
  }
  return found;
}

/** Over how many days a rule must have fired if it ever does. */
export const horizonDays = (rule: Rule): number => {
  if (isInterval(rule)) return Math.max(400, (stepMinutes(rule) / 1440) * 40);
  if (rule.frequency === "DAILY") return rule.interval * 40 + 10 + (rule.months.length ? 366 : 0);
  if (rule.frequency === "WEEKLY") return rule.interval * 140 + 14 + (rule.months.length ? 366 : 0);
  return rule.frequency === "MONTHLY" ? rule.interval * 31 * 14 + 5 * 366 : rule.interval * 366 * 9;
};

/** About how often a rule fires, so that one looks ahead no farther than one has to. */
export function perDay(rule: Rule): number {
  const times = Math.max(1, rule.hours.length) * Math.max(1, rule.minutes.length);
  if (isInterval(rule)) return 1440 / stepMinutes(rule);
  if (rule.frequency === "DAILY") return times / rule.interval;
  if (rule.frequency === "WEEKLY") return (times * Math.max(1, rule.days.length)) / 7 / rule.interval;
  return times / (rule.frequency === "MONTHLY" ? 30 : 365) / rule.interval;
}
