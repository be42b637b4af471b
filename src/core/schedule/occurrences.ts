import { DateTime } from "luxon";
import { civilOf } from "../retention/periods";
import { momentOfWall, wallOf } from "./local-time";
import { isInterval, parseRule, type Rule, stepMinutes } from "./rule";
import type { Weekday } from "./weekday";
import type { Span } from "./windows";

const MINUTE_MS = 60_000;
const DAY_MS = 86_400_000;
/** Days since 1970 of Monday, 1 January 2024: counting by days, weeks, months or years begins there. */
const COUNTS_FROM = Date.UTC(2024, 0, 1) / DAY_MS;
const COUNTS_FROM_YEAR = 2024;
/** A calendar repeats its days of month and week within this, but for the years without a leap day around 2100. */
const REPEATS_YEARS = 40;

/** The day of the week of a day since 1970. */
const weekdayOf = (day: number): Weekday => (((((day + 3) % 7) + 7) % 7) + 1) as Weekday;
const dayNumber = (year: number, month: number, date: number): number =>
  Date.UTC(year, month - 1, date) / DAY_MS;

/** Number of the period of a rule that a day lies in, counted from the first one. */
function periodOf(rule: Rule, day: number): number {
  if (rule.frequency === "WEEKLY") return Math.floor((day - COUNTS_FROM) / 7);
  if (rule.frequency !== "MONTHLY" && rule.frequency !== "YEARLY") return day - COUNTS_FROM;
  const { year, month } = civilOf(day);
  return rule.frequency === "MONTHLY" ? (year - COUNTS_FROM_YEAR) * 12 + month - 1 : year - COUNTS_FROM_YEAR;
}
/** The days of a period, from the first up to and without the last. */
function daysOfPeriod(rule: Rule, period: number): readonly [number, number] {
  if (rule.frequency === "WEEKLY") return [COUNTS_FROM + period * 7, COUNTS_FROM + period * 7 + 7];
  if (rule.frequency === "MONTHLY")
    return [dayNumber(COUNTS_FROM_YEAR, period + 1, 1), dayNumber(COUNTS_FROM_YEAR, period + 2, 1)];
  if (rule.frequency === "YEARLY")
    return [dayNumber(COUNTS_FROM_YEAR + period, 1, 1), dayNumber(COUNTS_FROM_YEAR + period + 1, 1, 1)];
  return [COUNTS_FROM + period, COUNTS_FROM + period + 1];
}

/** Whether a weekday is the n-th of its month or year, from the front or from the back. */
function isNth(day: number, nth: number, from: number, to: number): boolean {
  return nth > 0 ? Math.floor((day - from) / 7) + 1 === nth : Math.floor((to - 1 - day) / 7) + 1 === -nth;
}

/** Whether a rule by the clock fires on a day, as RFC 5545 (3.3.10) expands and limits; without a day of its own a weekly
 * rule means Monday, a monthly the first, a yearly the first of its months. */
function firesOn(rule: Rule, day: number): boolean {
  const { year, month, date } = civilOf(day);
  if (rule.months.length && !rule.months.includes(month)) return false;
  const [first, end] = [dayNumber(year, month, 1), dayNumber(year, month + 1, 1)];
  if (rule.monthDays.length) {
    const fromEnd = date - (end - first) - 1;
    if (!rule.monthDays.some((one) => one === date || one === fromEnd)) return false;
  }
  if (rule.days.length) {
    const within =
      rule.frequency === "YEARLY" && rule.months.length === 0
        ? ([dayNumber(year, 1, 1), dayNumber(year + 1, 1, 1)] as const)
        : ([first, end] as const);
    const weekday = weekdayOf(day);
    return rule.days.some(
      (one) => one.day === weekday && (one.nth === null || isNth(day, one.nth, ...within)),
    );
  }
  if (rule.monthDays.length) return true;
  if (rule.frequency === "WEEKLY") return weekdayOf(day) === 1;
  if (rule.frequency === "MONTHLY") return date === 1;
  if (rule.frequency === "YEARLY") return date === 1 && (rule.months.length > 0 || month === 1);
  return true;
}

/** Minutes of the day at which a rule by the clock fires, in order. */
function minutesOn(rule: Rule, day: number): readonly number[] {
  const hours =
    rule.frequency === "HOURLY" || rule.frequency === "MINUTELY" ? allOr(rule.hours, 24) : rule.hours;
  const found: number[] = [];
  for (const hour of hours.length ? hours : [0])
    for (const minute of rule.minutes.length ? rule.minutes : [0]) {
      const at = hour * 60 + minute;
      const since = (day - COUNTS_FROM) * 1440 + at;
      if (rule.frequency === "HOURLY" && Math.floor(since / 60) % rule.interval !== 0) continue;
      if (rule.frequency === "MINUTELY" && since % rule.interval !== 0) continue;
      found.push(at);
    }
  return [...new Set(found)].sort((a, b) => a - b);
}
const allOr = (some: readonly number[], count: number): readonly number[] =>
  some.length ? some : Array.from({ length: count }, (_, i) => i);

/** Wall times of a rule by the clock, as if they were UTC, from one to another, in order. */
export function wallsOf(rule: Rule, from: number, to: number): number[] {
  const [firstDay, lastDay] = [Math.floor(from / DAY_MS), Math.floor(to / DAY_MS)];
  const found: number[] = [];
  const take = (wall: number) => {
    if (wall >= from && wall <= to) found.push(wall);
  };
  const counts = (period: number) =>
    period >= 0 &&
    (rule.frequency === "HOURLY" || rule.frequency === "MINUTELY" || period % rule.interval === 0);
  const timesOfDay = (day: number) =>
    firesOn(rule, day) ? minutesOn(rule, day).map((minute) => day * DAY_MS + minute * MINUTE_MS) : [];
  if (rule.positions.length === 0) {
    for (let day = firstDay; day <= lastDay; day += 1)
      if (counts(periodOf(rule, day))) timesOfDay(day).forEach(take);
    return found;
  }
  for (let period = periodOf(rule, firstDay); period <= periodOf(rule, lastDay); period += 1) {
    if (!counts(period)) continue;
    const [begin, end] = daysOfPeriod(rule, period);
    const all: number[] = [];
    for (let day = begin; day < end; day += 1) all.push(...timesOfDay(day));
    const picked = rule.positions.flatMap((one) => all.at(one > 0 ? one - 1 : one) ?? []);
    for (const wall of [...new Set(picked)].sort((a, b) => a - b)) take(wall);
  }
  return found;
}

/** Whether a rule by the clock ever fires: looked for over as long as a calendar takes to repeat. */
export function everFires(rule: Rule): boolean {
  const begin = COUNTS_FROM * DAY_MS;
  for (let year = 0; year < REPEATS_YEARS; year += 4) {
    const at = begin + year * 365.25 * DAY_MS;
    if (wallsOf(rule, at, at + 4 * 365.25 * DAY_MS).length) return true;
  }
  return false;
}

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
export function horizonDays(rule: Rule): number {
  if (!isInterval(rule)) return REPEATS_YEARS * 366;
  const year = rule.months.length + rule.monthDays.length ? 5 * 366 : 60;
  return Math.max(year, (stepMinutes(rule) / 1440) * 400);
}

/** About how often a rule fires, so that one looks ahead no farther than one has to. */
export function perDay(rule: Rule): number {
  const times = Math.max(1, rule.hours.length) * Math.max(1, rule.minutes.length);
  if (isInterval(rule)) return 1440 / stepMinutes(rule);
  if (rule.frequency === "HOURLY" || rule.frequency === "MINUTELY")
    return ((rule.hours.length || 24) * rule.minutes.length) / rule.interval;
  if (rule.frequency === "DAILY") return times / rule.interval;
  if (rule.frequency === "WEEKLY") return (times * Math.max(1, rule.days.length)) / 7 / rule.interval;
  return times / (rule.frequency === "MONTHLY" ? 30 : 365) / rule.interval;
}
