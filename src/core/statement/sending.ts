import { DateTime } from "luxon";
import { localMoment } from "../schedule/local-time";

/** When a client's statement goes out by itself. */
export interface StatementSchedule {
  readonly every: "week" | "month";
  /** A weekday, Monday is 1; or a day of the month up to 28, which every month has. */
  readonly onDay: number;
  /** `HH:MM` in the client's zone. */
  readonly at: string;
}

const isDay = (day: DateTime, { every, onDay }: StatementSchedule): boolean =>
  (every === "week" ? day.weekday : day.day) === onDay;

/** The first time after a moment that a statement goes out. A time that a clock change removes is the next that exists. */
export function nextSending(schedule: StatementSchedule, zone: string, after: Date): Date {
  let day = DateTime.fromJSDate(after, { zone }).startOf("day");
  for (;;) {
    if (isDay(day, schedule)) {
      const at = localMoment(day, schedule.at).toJSDate();
      if (at > after) return at;
    }
    day = day.plus({ days: 1 }).startOf("day");
  }
}

/** The days that a statement tells of which goes out at a moment: the seven days before, or the month before. */
export function periodSent(
  every: StatementSchedule["every"],
  zone: string,
  at: Date,
): { firstDay: string; lastDay: string } {
  const today = DateTime.fromJSDate(at, { zone }).startOf("day");
  if (every === "week")
    return {
      firstDay: today.minus({ days: 7 }).toISODate()!,
      lastDay: today.minus({ days: 1 }).toISODate()!,
    };
  const month = today.startOf("month").minus({ months: 1 });
  return { firstDay: month.toISODate()!, lastDay: month.endOf("month").toISODate()! };
}
