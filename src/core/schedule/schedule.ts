import { DateTime, IANAZone } from "luxon";

/** Days of the week as ISO 8601 counts them: 1 is Monday, 7 is Sunday. */
export type Weekday = 1 | 2 | 3 | 4 | 5 | 6 | 7;

/** When runs are due. Times are local times of the client's zone, `HH:MM`. */
export type Schedule =
  | { readonly kind: "daily"; readonly at: string }
  | { readonly kind: "weekly"; readonly days: readonly Weekday[]; readonly at: string }
  | { readonly kind: "every"; readonly hours: number }
  | { readonly kind: "on-demand" };

/** Whether the zone is one that the time zone database knows. */
export const isZone = (zone: string): boolean => IANAZone.isValidZone(zone);

/**
 * The moment of a local time on a local day. A time that a clock change removes becomes the first moment after the gap;
 * of a time that happens twice the first is taken, so that it runs once.
 */
export function localMoment(day: DateTime, at: string): DateTime {
  const [hour, minute] = at.split(":").map(Number) as [number, number];
  const moment = day.set({ hour, minute, second: 0, millisecond: 0 });
  if (moment.hour === hour && moment.minute === minute) {
    const earlier = moment.minus({ hours: 1 });
    return earlier.hour === hour && earlier.minute === minute ? earlier : moment;
  }
  return firstAfterGap(moment);
}

/** Finds, to the minute, where the offset changed in the two hours around a moment. */
function firstAfterGap(near: DateTime): DateTime {
  let low = near.minus({ hours: 3 });
  let high = near.plus({ hours: 1 });
  while (high.diff(low).as("minutes") > 1) {
    const middle = low.plus({ minutes: Math.floor(high.diff(low).as("minutes") / 2) });
    if (middle.offset === low.offset) low = middle;
    else high = middle;
  }
  return high.startOf("minute");
}

/**
 * The next due moments strictly after `after`, at most `count` of them.
 * An interval counts from `anchor` (the last run's due time); without one it is due at once.
 */
export function nextRuns(
  schedule: Schedule,
  zone: string,
  after: Date,
  count: number,
  anchor: Date | null = null,
): Date[] {
  if (schedule.kind === "on-demand") return [];
  if (schedule.kind === "every") return nextIntervals(schedule.hours, after, count, anchor);
  const days = schedule.kind === "weekly" ? new Set<number>(schedule.days) : null;
  const found: Date[] = [];
  let day = DateTime.fromJSDate(after, { zone }).startOf("day");
  // a week without a chosen day cannot be: `days` has at least one, so the loop ends
  for (let guard = 0; found.length < count && guard < (count + 2) * 7; guard += 1) {
    if (!days || days.has(day.weekday)) {
      const moment = localMoment(day, schedule.at).toJSDate();
      if (moment > after) found.push(moment);
    }
    day = day.plus({ days: 1 }).startOf("day");
  }
  return found;
}

function nextIntervals(hours: number, after: Date, count: number, anchor: Date | null): Date[] {
  const step = hours * 3_600_000;
  const minute = Math.ceil((after.getTime() + 1) / 60_000) * 60_000;
  let first = minute;
  if (anchor) {
    const passed = Math.floor((after.getTime() - anchor.getTime()) / step) + 1;
    first = Math.max(anchor.getTime() + passed * step, anchor.getTime() + step);
  }
  return Array.from({ length: count }, (_, i) => new Date(first + i * step));
}

const DAY_NAMES = ["Monday", "Tuesday", "Wednesday", "Thursday", "Friday", "Saturday", "Sunday"] as const;

/** The schedule as a sentence: `Every Monday and Friday at 21:30`. */
export function scheduleSentence(schedule: Schedule): string {
  switch (schedule.kind) {
    case "daily":
      return `Every day at ${schedule.at}`;
    case "weekly": {
      const days = [...schedule.days].sort((a, b) => a - b);
      if (days.join() === "1,2,3,4,5") return `Every working day at ${schedule.at}`;
      const names = days.map((day) => DAY_NAMES[day - 1]);
      const last = names.pop();
      return `Every ${names.length ? `${names.join(", ")} and ${last}` : last} at ${schedule.at}`;
    }
    case "every":
      return schedule.hours === 1 ? "Every hour" : `Every ${schedule.hours} hours`;
    case "on-demand":
      return "Only when somebody asks";
  }
}

/** The longest pause between two due moments in hours, or null where nothing is due by itself. */
export function longestPause(schedule: Schedule): number | null {
  if (schedule.kind === "on-demand") return null;
  if (schedule.kind === "every") return schedule.hours;
  if (schedule.kind === "daily") return 24;
  const days = [...schedule.days].sort((a, b) => a - b);
  return Math.max(...days.map((day, i) => ((days[(i + 1) % days.length]! - day + 6) % 7) + 1)) * 24;
}
