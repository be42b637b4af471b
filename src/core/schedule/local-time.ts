import { DateTime, IANAZone } from "luxon";

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

const MINUTE_MS = 60_000;
const DAY_MS = 86_400_000;
/** By zone and day since 1970, the offset in minutes where it is one all around that day; null near a clock change. */
const offsets = new Map<string, Map<number, number | null>>();
const DAYS_KEPT = 8000;

function steadyOffset(zone: string, day: number): number | null {
  let known = offsets.get(zone);
  if (!known || known.size > DAYS_KEPT) {
    known = new Map();
    offsets.set(zone, known);
  }
  const there = known.get(day);
  if (there !== undefined) return there;
  const clock = IANAZone.create(zone);
  const [before, after] = [clock.offset((day - 1) * DAY_MS), clock.offset((day + 2) * DAY_MS)];
  const found = before === after ? before : null;
  known.set(day, found);
  return found;
}

/** The moment at which the clock of a zone shows a wall time, given as if it were UTC. */
export function momentOfWall(wallMs: number, zone: string): number {
  const offset = steadyOffset(zone, Math.floor(wallMs / DAY_MS));
  if (offset !== null) return wallMs - offset * MINUTE_MS;
  const wall = DateTime.fromMillis(wallMs, { zone: "UTC" });
  const day = DateTime.fromObject({ year: wall.year, month: wall.month, day: wall.day }, { zone }).startOf(
    "day",
  );
  return localMoment(day, wall.toFormat("HH:mm")).toMillis();
}

/** What the clock of a zone shows at a moment, given as if it were UTC. */
export const wallOf = (moment: Date, zone: string): number =>
  moment.getTime() + IANAZone.create(zone).offset(moment.getTime()) * MINUTE_MS;
