import type { Clauses } from "@/core/policy/clauses";
import type { When } from "@/core/policy/when";
import { formatRule, isInterval, parseRule, type Rule, RuleError, rulesAt } from "@/core/schedule/rule";
import type { Weekday } from "@/core/schedule/weekday";
import type { Window } from "@/core/schedule/window";

/** Schedules as they are typed: the common ones in fields of their own, anything else as a rule. */
export type ScheduleKind = "daily" | "weekly" | "monthly" | "interval" | "rule";
export interface ScheduleDraft {
  /** Tells one from the others while they are typed. */
  readonly key: number;
  readonly kind: ScheduleKind;
  readonly at: string;
  readonly days: readonly Weekday[];
  /** `1` to `28`, `last`, or a day of a kind such as `1 6`: the first Saturday. */
  readonly monthDay: string;
  readonly every: string;
  readonly unit: "MINUTELY" | "HOURLY";
  /** Hours in which an interval runs; empty: all. */
  readonly fromHour: string;
  readonly toHour: string;
  readonly rule: string;
  readonly full: boolean;
}

export interface WhenDraft {
  readonly schedules: readonly ScheduleDraft[];
  readonly windows: readonly Window[];
  readonly stopAfter: string;
  readonly missed: When["missed"];
  readonly after: string;
  readonly spread: string;
  readonly target: string;
}

/** Days of a month that every month has; days of a kind, counted. Others are given as a rule. */
export const MONTH_DAYS = Array.from({ length: 28 }, (_, i) => i + 1);
export const NTH = [
  [1, "first"],
  [2, "second"],
  [3, "third"],
  [4, "fourth"],
  [-1, "last"],
] as const;

let lastKey = 0;
export const newSchedule = (): ScheduleDraft => {
  lastKey += 1;
  return {
    key: lastKey,
    kind: "daily",
    at: "21:30",
    days: [1, 2, 3, 4, 5],
    monthDay: "1",
    every: "4",
    unit: "HOURLY",
    fromHour: "",
    toHour: "",
    rule: "FREQ=DAILY;BYHOUR=21;BYMINUTE=30",
    full: false,
  };
};

const two = (value: number | undefined): string => String(value ?? 0).padStart(2, "0");

function scheduleDraft({ rule: text, pass }: When["schedules"][number]): ScheduleDraft {
  const base = { ...newSchedule(), rule: text, full: pass === "full" };
  let rule: Rule;
  try {
    rule = parseRule(text);
  } catch (error) {
    if (error instanceof RuleError) return { ...base, kind: "rule" };
    throw error;
  }
  const plain = rule.months.length + rule.positions.length === 0;
  if (isInterval(rule) && plain && rule.days.length + rule.monthDays.length + rule.minutes.length === 0) {
    const { hours } = rule;
    const span = hours.every((hour, i) => i === 0 || hour === (hours[i - 1]! + 1) % 24);
    if (span)
      return {
        ...base,
        kind: "interval",
        every: String(rule.interval),
        unit: rule.frequency as ScheduleDraft["unit"],
        fromHour: hours.length ? String(hours[0]) : "",
        toHour: hours.length ? String(hours.at(-1)! + 1) : "",
      };
  }
  const oneTime = rule.hours.length === 1 && rule.minutes.length === 1;
  const at = `${two(rule.hours[0])}:${two(rule.minutes[0])}`;
  if (!plain || !oneTime || rule.interval !== 1) return { ...base, kind: "rule" };
  if (rule.frequency === "DAILY" && !rule.days.length && !rule.monthDays.length)
    return { ...base, kind: "daily", at };
  if (rule.frequency === "WEEKLY" && rule.days.length && !rule.monthDays.length)
    return { ...base, kind: "weekly", at, days: rule.days.map(({ day }) => day) };
  const monthDay = rule.frequency === "MONTHLY" ? monthDayOf(rule) : null;
  return monthDay === null ? { ...base, kind: "rule" } : { ...base, kind: "monthly", at, monthDay };
}

/** The day of a monthly rule as the field has it; null where it has none such. */
function monthDayOf({ days, monthDays }: Rule): string | null {
  const [monthDay] = monthDays;
  if (monthDay !== undefined) {
    if (monthDays.length > 1 || days.length) return null;
    if (monthDay === -1) return "last";
    return MONTH_DAYS.includes(monthDay) ? String(monthDay) : null;
  }
  const [day] = days;
  return day && days.length === 1 && NTH.some(([nth]) => nth === day.nth) ? `${day.nth} ${day.day}` : null;
}

/** Hours from one to before another, over midnight where that is earlier; what is no hour stays among them. */
function hoursBetween(from: number, to: number): number[] {
  if (!Number.isInteger(from) || !Number.isInteger(to)) return [Number.NaN];
  const overnight = to < from && to >= 0 && from < 24;
  // one more than a day has tells that it is too many
  const count = Math.min(25, Math.max(1, overnight ? to + 24 - from : to - from));
  return Array.from({ length: count }, (_, i) => (overnight ? (from + i) % 24 : from + i));
}

/** What was typed as a rule; what is not right yet stays so, for the check to say. */
export function ruleOf(draft: ScheduleDraft): string {
  const none: Rule = {
    frequency: "DAILY",
    interval: 1,
    days: [],
    monthDays: [],
    months: [],
    hours: [],
    minutes: [],
    positions: [],
  };
  const timed = /^\d{1,2}:\d{2}$/.test(draft.at.trim());
  const [hour, minute] = timed ? draft.at.split(":").map(Number) : [99, 99];
  switch (draft.kind) {
    case "daily":
      return timed ? rulesAt(draft.at) : formatRule({ ...none, hours: [99], minutes: [99] });
    case "weekly":
      return formatRule({
        ...none,
        frequency: "WEEKLY",
        days: draft.days.map((day) => ({ day, nth: null })),
        hours: [hour!],
        minutes: [minute!],
      });
    case "monthly": {
      const [nth, day] = draft.monthDay.split(" ");
      return formatRule({
        ...none,
        frequency: "MONTHLY",
        ...(day
          ? { days: [{ day: Number(day) as Weekday, nth: Number(nth) }] }
          : { monthDays: [nth === "last" ? -1 : Number(nth)] }),
        hours: [hour!],
        minutes: [minute!],
      });
    }
    case "interval": {
      const from = draft.fromHour.trim() === "" ? 0 : Number(draft.fromHour);
      const to = draft.toHour.trim() === "" ? 24 : Number(draft.toHour);
      const every = /^\d+$/.test(draft.every.trim()) ? Number(draft.every) : 0;
      const hours = from === 0 && to === 24 ? "" : `;BYHOUR=${hoursBetween(from, to).join(",")}`;
      return `FREQ=${draft.unit};INTERVAL=${every}${hours}`;
    }
    case "rule":
      return draft.rule;
  }
}

export function whenDraft(clause: Clauses["when"] | undefined): WhenDraft {
  return {
    schedules: clause ? clause.schedules.map(scheduleDraft) : [newSchedule()],
    windows: clause?.windows ?? [],
    stopAfter: clause?.stopAfterHours ? String(clause.stopAfterHours) : "",
    missed: clause?.missed ?? "at-once",
    after: clause?.after ?? "",
    spread: clause?.spreadMinutes ? String(clause.spreadMinutes) : "",
    target: String(clause?.targetHours ?? 26),
  };
}

export function whenOf(draft: WhenDraft, number: (text: string) => number): unknown {
  const hours = draft.stopAfter.trim().replace(",", ".");
  return {
    schedules: draft.schedules.map((one) => ({ rule: ruleOf(one), pass: one.full ? "full" : "incremental" })),
    windows: draft.windows.map(({ days, from, to }) => ({ days: [...days], from, to })),
    stopAfterHours: hours === "" ? null : /^\d+(\.\d+)?$/.test(hours) ? Number(hours) : Number.NaN,
    missed: draft.missed,
    after: draft.after || null,
    spreadMinutes: draft.spread.trim() === "" ? 0 : number(draft.spread),
    targetHours: number(draft.target),
  };
}
