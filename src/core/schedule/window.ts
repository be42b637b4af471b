import { WEEKDAY_NAMES, type Weekday } from "./weekday";

/**
 * When runs are allowed, by the clock of the client. `to` that is not later than `from` lies on the next day; `to` of
 * 00:00 is the end of the day. Without days: every day.
 */
export interface Window {
  readonly days: readonly Weekday[];
  readonly from: string;
  readonly to: string;
}

/** A window as words: `working days 20:00 to 6:00`. */
export function windowWords(window: Window): string {
  const days = [...window.days].sort((a, b) => a - b);
  const which =
    days.length === 0 || days.length === 7
      ? ""
      : days.join() === "1,2,3,4,5"
        ? "working days "
        : days.join() === "6,7"
          ? "weekends "
          : `${days.map((day) => WEEKDAY_NAMES[day - 1]!.slice(0, 3)).join(", ")} `;
  return `${which}${window.from} to ${window.to}`;
}
