import { momentOfWall, wallOf } from "./local-time";
import type { Weekday } from "./weekday";
import type { Window } from "./window";

const DAY_MS = 86_400_000;

/** A stretch of time in which runs are allowed; the end is not part of it. */
export interface Span {
  readonly opens: Date;
  readonly closes: Date;
}

/** Windows that meet may make a span of a week; one more day, for those that end on the next. */
const LONGEST_SPAN_DAYS = 8;
const WEEK_MINUTES = 7 * 1440;

const minutesOf = (time: string): number => {
  const [hour, minute] = time.split(":").map(Number) as [number, number];
  return hour * 60 + minute;
};

/** Whether windows together leave no minute of a week closed: then they are none. */
export function alwaysOpen(windows: readonly Window[]): boolean {
  const open = new Uint8Array(WEEK_MINUTES);
  for (const { days, from, to } of windows) {
    const length = ((minutesOf(to) - minutesOf(from) + 1440 - 1) % 1440) + 1;
    for (let weekday = 1; weekday <= 7; weekday += 1) {
      if (days.length && !days.includes(weekday as Weekday)) continue;
      const begins = (weekday - 1) * 1440 + minutesOf(from);
      for (let at = 0; at < length; at += 1) open[(begins + at) % WEEK_MINUTES] = 1;
    }
  }
  return open.every((minute) => minute === 1);
}

/** The open spans that touch the time from `from` to `to`, in order; those that meet are one. Without windows: null. */
export function spansOf(windows: readonly Window[], zone: string, from: Date, to: Date): Span[] | null {
  if (windows.length === 0 || alwaysOpen(windows)) return null;
  const found: { opens: Date; closes: Date }[] = [];
  const minutes = (time: string) => minutesOf(time) * 60_000;
  const last = wallOf(to, zone);
  // windows that meet are one: where it opens must not depend on where one begins to look
  const first = (Math.floor(wallOf(from, zone) / DAY_MS) - LONGEST_SPAN_DAYS) * DAY_MS;
  for (let day = first; day <= last; day += DAY_MS) {
    // 1 January 1970 was a Thursday
    const weekday = (((day / DAY_MS + 3) % 7) + 1) as Weekday;
    for (const window of windows) {
      if (window.days.length && !window.days.includes(weekday)) continue;
      const lastDay = window.to <= window.from ? day + DAY_MS : day;
      found.push({
        opens: new Date(momentOfWall(day + minutes(window.from), zone)),
        closes: new Date(momentOfWall(lastDay + minutes(window.to), zone)),
      });
    }
  }
  const joined: { opens: Date; closes: Date }[] = [];
  for (const span of found.sort((a, b) => a.opens.getTime() - b.opens.getTime())) {
    const last = joined.at(-1);
    if (last && span.opens <= last.closes) {
      if (span.closes > last.closes) last.closes = span.closes;
    } else joined.push(span);
  }
  return joined.filter((span) => span.closes > from && span.opens <= to && span.closes > span.opens);
}

const LOOK_AHEAD_MS = LONGEST_SPAN_DAYS * DAY_MS;

/** Of spans in order, the one that is open at a moment, or opens next. */
function spanFrom(spans: readonly Span[], at: Date): Span | undefined {
  let [low, high] = [0, spans.length];
  while (low < high) {
    const middle = (low + high) >> 1;
    if (spans[middle]!.closes > at) high = middle;
    else low = middle + 1;
  }
  return spans[low];
}

/** The moment itself where one of the spans is open then, otherwise the next opening; null where there is none. */
export function intoSpans(spans: readonly Span[] | null, at: Date): Date | null {
  if (!spans) return at;
  const span = spanFrom(spans, at);
  return span ? (span.opens > at ? span.opens : at) : null;
}

/** The span that is open at a moment; null where none is. Without windows it never closes. */
export function openSpan(
  windows: readonly Window[],
  zone: string,
  at: Date,
): { readonly closes: Date | null } | null {
  const spans = spansOf(windows, zone, at, new Date(at.getTime() + LOOK_AHEAD_MS));
  if (!spans) return { closes: null };
  const span = spanFrom(spans, at);
  return span && span.opens <= at ? span : null;
}
