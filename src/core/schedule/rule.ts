import type { Weekday } from "./weekday";
import { WEEKDAY_NAMES } from "./weekday";

/** A recurrence rule as RFC 5545 (3.3.10) writes it, without the parts that have no place in a schedule of a policy. */

const FREQUENCIES = ["MINUTELY", "HOURLY", "DAILY", "WEEKLY", "MONTHLY", "YEARLY"] as const;
export type Frequency = (typeof FREQUENCIES)[number];

const DAY_CODES = ["MO", "TU", "WE", "TH", "FR", "SA", "SU"] as const;

/** A day of the week, with `nth` in a month or year: 1 is the first, -1 the last. */
export interface RuleDay {
  readonly day: Weekday;
  readonly nth: number | null;
}

export interface Rule {
  readonly frequency: Frequency;
  readonly interval: number;
  readonly days: readonly RuleDay[];
  readonly monthDays: readonly number[];
  readonly months: readonly number[];
  readonly hours: readonly number[];
  readonly minutes: readonly number[];
  readonly positions: readonly number[];
}

/** A rule that cannot be used; the message says why and what now. */
export class RuleError extends Error {}

const numbers = (name: string, text: string, least: number, most: number): number[] =>
  text.split(",").map((part) => {
    const value = Number(part);
    if (
      !/^[+-]?\d+$/.test(part) ||
      Math.abs(value) > most ||
      (least >= 0 && value < least) ||
      (least > 0 && value === 0)
    )
      throw new RuleError(`${name} must be a whole number from ${least} to ${most}, not “${part}”.`);
    return value;
  });

function days(text: string): RuleDay[] {
  return text.split(",").map((part) => {
    const found = /^([+-]?\d{1,2})?(MO|TU|WE|TH|FR|SA|SU)$/.exec(part);
    if (!found)
      throw new RuleError(`BYDAY must be days such as MO or 1SA (the first Saturday), not “${part}”.`);
    const nth = found[1] === undefined ? null : Number(found[1]);
    if (nth !== null && (nth === 0 || Math.abs(nth) > 53))
      throw new RuleError(`“${part}” is no day of a month; the first is 1, the last is -1.`);
    return { day: (DAY_CODES.indexOf(found[2] as (typeof DAY_CODES)[number]) + 1) as Weekday, nth };
  });
}

const LONGEST_MONTH = [31, 29, 31, 30, 31, 30, 31, 31, 30, 31, 30, 31];

/** Reads a rule. Throws `RuleError` for what is no rule, has no place here, or can never come true. */
export function parseRule(text: string): Rule {
  const parts = new Map<string, string>();
  for (const part of text
    .trim()
    .replace(/^RRULE:/i, "")
    .toUpperCase()
    .split(";")) {
    const [name, value, ...rest] = part.split("=");
    if (!name || !value || rest.length)
      throw new RuleError(`“${part}” is no part of a rule; a part is NAME=VALUE, such as FREQ=DAILY.`);
    if (parts.has(name)) throw new RuleError(`${name} occurs twice.`);
    parts.set(name, value);
  }
  const take = (name: string): string | undefined => {
    const value = parts.get(name);
    parts.delete(name);
    return value;
  };
  if (parts.has("COUNT") || parts.has("UNTIL"))
    throw new RuleError("A schedule has no end. Remove COUNT and UNTIL.");
  const frequency = take("FREQ") as Frequency | undefined;
  if (!frequency || !FREQUENCIES.includes(frequency))
    throw new RuleError("A rule needs a frequency: FREQ=DAILY, WEEKLY, MONTHLY, YEARLY, HOURLY or MINUTELY.");
  const list = (name: string, least: number, most: number): number[] => {
    const value = take(name);
    return value === undefined ? [] : numbers(name, value, least, most);
  };
  const [interval = 1, ...more] = list("INTERVAL", 1, 100_000);
  if (more.length) throw new RuleError("INTERVAL must be one number.");
  const dayText = take("BYDAY");
  const rule: Rule = {
    frequency,
    interval,
    days: dayText === undefined ? [] : days(dayText),
    monthDays: list("BYMONTHDAY", -31, 31),
    months: list("BYMONTH", 1, 12),
    hours: list("BYHOUR", 0, 23),
    minutes: list("BYMINUTE", 0, 59),
    positions: list("BYSETPOS", -366, 366),
  };
  const weekStart = take("WKST");
  if (weekStart !== undefined && weekStart !== "MO")
    throw new RuleError("Weeks begin on Monday here: leave WKST out, or write WKST=MO.");
  const [other] = parts.keys();
  if (other) throw new RuleError(`${other} has no place in a schedule; leave it out.`);
  checkPossible(rule);
  return rule;
}

function checkPossible(rule: Rule): void {
  const byInterval = rule.frequency === "MINUTELY" || rule.frequency === "HOURLY";
  if (byInterval && (rule.positions.length || rule.days.some((day) => day.nth !== null)))
    throw new RuleError("An interval allows plain weekdays only, not the first or last of a month.");
  if (!byInterval && rule.frequency !== "MONTHLY" && rule.frequency !== "YEARLY") {
    if (rule.days.some((day) => day.nth !== null))
      throw new RuleError("The first or last day of a kind is one of a month: use FREQ=MONTHLY.");
  }
  if (rule.positions.includes(0))
    throw new RuleError("BYSETPOS has no position 0; the first is 1, the last is -1.");
  if (rule.frequency === "WEEKLY" && rule.monthDays.length)
    throw new RuleError(
      "BYMONTHDAY has no place in a weekly rule (RFC 5545): use FREQ=MONTHLY or FREQ=DAILY.",
    );
  if (rule.monthDays.includes(0)) throw new RuleError("A month has no day 0; the last one is -1.");
  const months = rule.months.length ? rule.months : LONGEST_MONTH.map((_, i) => i + 1);
  if (
    rule.monthDays.length &&
    !rule.monthDays.some((day) => months.some((month) => Math.abs(day) <= LONGEST_MONTH[month - 1]!))
  )
    throw new RuleError("This rule never fires: none of its months has such a day.");
  if (
    rule.frequency === "MONTHLY" &&
    rule.days.length &&
    rule.days.every((day) => Math.abs(day.nth ?? 1) > 5)
  )
    throw new RuleError("This rule never fires: no month has a day of the week more than five times.");
}

/**
 * Whether the rule counts minutes or hours from moment to moment, and not by the clock. One that names minutes of the hour
 * goes by the clock: counted from moment to moment it might never meet them.
 */
export const isInterval = (rule: Rule): boolean =>
  (rule.frequency === "MINUTELY" || rule.frequency === "HOURLY") && rule.minutes.length === 0;

/** The step of an interval, in minutes. */
export const stepMinutes = (rule: Rule): number => rule.interval * (rule.frequency === "HOURLY" ? 60 : 1);

/** The rule as RFC 5545 writes it. */
export function formatRule(rule: Rule): string {
  const parts = [`FREQ=${rule.frequency}`];
  const add = (name: string, values: readonly (number | string)[]) => {
    if (values.length) parts.push(`${name}=${values.join(",")}`);
  };
  if (rule.interval > 1) parts.push(`INTERVAL=${rule.interval}`);
  add("BYMONTH", rule.months);
  add("BYMONTHDAY", rule.monthDays);
  add(
    "BYDAY",
    rule.days.map(({ day, nth }) => `${nth ?? ""}${DAY_CODES[day - 1]}`),
  );
  add("BYHOUR", rule.hours);
  add("BYMINUTE", rule.minutes);
  add("BYSETPOS", rule.positions);
  return parts.join(";");
}

/** Every day, or on some days of the week, at a time `HH:MM`. */
export function rulesAt(at: string, weekdays: readonly Weekday[] = []): string {
  const [hour, minute] = at.split(":").map(Number) as [number, number];
  return formatRule({
    frequency: weekdays.length ? "WEEKLY" : "DAILY",
    interval: 1,
    days: [...weekdays].sort((a, b) => a - b).map((day) => ({ day, nth: null })),
    monthDays: [],
    months: [],
    hours: [hour],
    minutes: [minute],
    positions: [],
  });
}

const ordinal = (nth: number): string => {
  if (nth < 0) return nth === -1 ? "last" : `${ordinal(-nth)} last`;
  const words = ["first", "second", "third", "fourth", "fifth"];
  if (words[nth - 1]) return words[nth - 1]!;
  const ending = nth % 100 >= 11 && nth % 100 <= 13 ? "th" : (["th", "st", "nd", "rd"][nth % 10] ?? "th");
  return `${nth}${ending}`;
};
const listed = (parts: readonly string[]): string =>
  parts.length > 1 ? `${parts.slice(0, -1).join(", ")} and ${parts.at(-1)}` : (parts[0] ?? "");
const MONTHS = ["January", "February", "March", "April", "May", "June", "July", "August", "September", "October", "November", "December"]; // biome-ignore format: one line

/** The times of day of a rule by the clock, `HH:MM`, in order. */
export function timesOf(rule: Rule): string[] {
  const two = (value: number) => String(value).padStart(2, "0");
  const hours = rule.hours.length ? rule.hours : [0];
  const minutes = rule.minutes.length ? rule.minutes : [0];
  return hours.flatMap((hour) => minutes.map((minute) => `${two(hour)}:${two(minute)}`)).sort();
}

const plainDays = (rule: Rule): string => {
  const found = [...new Set(rule.days.map(({ day }) => day))].sort((a, b) => a - b);
  if (found.length === 0 || found.length === 7) return "day";
  if (found.join() === "1,2,3,4,5") return "working day";
  return listed(found.map((day) => WEEKDAY_NAMES[day - 1]!));
};

/** Hours as spans: `from 8:00 to 18:59`. */
function hourSpans(hours: readonly number[]): string {
  const sorted = [...hours].sort((a, b) => a - b);
  const spans: [number, number][] = [];
  for (const hour of sorted) {
    const last = spans.at(-1);
    if (last && last[1] === hour - 1) last[1] = hour;
    else spans.push([hour, hour]);
  }
  return listed(spans.map(([from, to]) => `from ${from}:00 to ${to}:59`));
}

/** The rule as a sentence: `Every Monday and Friday at 21:30`. */
export function ruleSentence(rule: Rule): string {
  const only = rule.months.length ? ` in ${listed(rule.months.map((month) => MONTHS[month - 1]!))}` : "";
  const at = ` at ${listed(timesOf(rule))}`;
  const each = (unit: string) => (rule.interval === 1 ? `Every ${unit}` : `Every ${rule.interval} ${unit}s`);
  if (isInterval(rule)) {
    const step = each(rule.frequency === "HOURLY" ? "hour" : "minute");
    const on = rule.days.length
      ? ` on ${plainDays(rule) === "working day" ? "working days" : plainDays(rule)}`
      : "";
    return `${step}${on}${rule.hours.length ? ` ${hourSpans(rule.hours)}` : ""}${only}`;
  }
  if (rule.frequency === "DAILY" && rule.days.length === 0 && rule.monthDays.length === 0)
    return `${each("day")}${only}${at}`;
  if (rule.frequency === "WEEKLY" || rule.frequency === "DAILY") {
    if (rule.monthDays.length) return `On day ${listed(rule.monthDays.map(String))}${only}${at}`;
    return rule.interval === 1
      ? `Every ${plainDays(rule)}${only}${at}`
      : `${each("week")} on ${plainDays(rule)}${only}${at}`;
  }
  const every =
    rule.frequency === "MONTHLY"
      ? rule.interval === 1
        ? only
          ? `${only.trim().replace(/^in/, "of")}`
          : "of every month"
        : `of every ${ordinal(rule.interval)} month`
      : `of ${rule.months.length ? listed(rule.months.map((month) => MONTHS[month - 1]!)) : "the year"}${rule.interval === 1 ? "" : ` every ${rule.interval} years`}`;
  const which = rule.monthDays.length
    ? rule.monthDays.length === 1 && rule.monthDays[0] === -1
      ? "the last day"
      : `day ${listed(rule.monthDays.map(String))}`
    : rule.days.length
      ? listed(
          rule.days.map(
            ({ day, nth }) => `${nth === null ? "every" : `the ${ordinal(nth)}`} ${WEEKDAY_NAMES[day - 1]}`,
          ),
        )
      : "the first day";
  const position = rule.positions.length ? ` (the ${listed(rule.positions.map(ordinal))} of these)` : "";
  return `On ${which} ${every}${position}${at}`;
}
