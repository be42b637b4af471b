import { formatRule, parseRule, type Rule, RuleError, timesOf } from "./rule";
import type { Weekday } from "./weekday";

const DAY = 1440;

/** Whether a rule can be moved on the clock: one time of day, and not counted from run to run. */
export function isMovable(text: string): boolean {
  const rule = parseRule(text);
  return (
    !["MINUTELY", "HOURLY"].includes(rule.frequency) &&
    timesOf(rule).length === 1 &&
    rule.positions.length === 0
  );
}

/**
 * The same rule so many minutes later or earlier. What goes past midnight goes to the day after or before; days of a
 * month stay, so these cannot pass it. Throws `RuleError` for a rule that cannot be moved so.
 */
export function shiftRule(text: string, minutes: number): string {
  const rule = parseRule(text);
  if (!isMovable(text)) throw new RuleError("This schedule has no single time that could be moved.");
  const [hour, minute] = timesOf(rule)[0]!.split(":").map(Number) as [number, number];
  const at = hour * 60 + minute + minutes;
  const days = Math.floor(at / DAY);
  const of = at - days * DAY;
  const moved: Rule = { ...rule, hours: [Math.floor(of / 60)], minutes: [of % 60] };
  if (days === 0) return formatRule(moved);
  // days of a month and months end elsewhere than days of the week
  const everyMonth = rule.months.length + rule.monthDays.length === 0;
  if (everyMonth && rule.frequency === "DAILY" && rule.interval === 1 && rule.days.length === 0)
    return formatRule(moved);
  if (everyMonth && rule.frequency === "WEEKLY" && rule.interval === 1 && rule.days.length)
    return formatRule({
      ...moved,
      days: rule.days
        .map(({ day }) => ({ day: (((((day - 1 + days) % 7) + 7) % 7) + 1) as Weekday, nth: null }))
        .sort((a, b) => a.day - b.day),
    });
  throw new RuleError("This schedule cannot be moved past midnight.");
}
