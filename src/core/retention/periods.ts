import { IANAZone } from "luxon";

/** Calendar periods that a point can stand for, each begun later than the one before. */
export const PERIODS = ["daily", "weekly", "monthly", "quarterly", "yearly"] as const;
export type Period = (typeof PERIODS)[number];

const DAY_MS = 86_400_000;
const WEEK_MS = 7 * DAY_MS;

/** Days since 1970-01-01 by the clock of a zone. Remembers the zone's offset by the week: clocks change rarely. */
export function localDays(zone: string): (moment: Date) => number {
  const iana = IANAZone.create(zone);
  const offsets = new Map<number, number>();
  const offsetAt = (week: number): number => {
    let offset = offsets.get(week);
    if (offset === undefined) {
      offset = iana.offset(week * WEEK_MS);
      offsets.set(week, offset);
    }
    return offset;
  };
  return (moment) => {
    const ms = moment.getTime();
    const week = Math.floor(ms / WEEK_MS);
    const before = offsetAt(week);
    const offset = before === offsetAt(week + 1) ? before : iana.offset(ms);
    return Math.floor((ms + offset * 60_000) / DAY_MS);
  };
}

/** Year and month (1 to 12) of a day since 1970 in the Gregorian calendar (H. Hinnant, chrono-compatible date algorithms). */
export function civilOf(day: number): { year: number; month: number; date: number } {
  const shifted = day + 719_468;
  const era = Math.floor(shifted / 146_097);
  const ofEra = shifted - era * 146_097;
  const yearOfEra = Math.floor(
    (ofEra - Math.floor(ofEra / 1460) + Math.floor(ofEra / 36_524) - Math.floor(ofEra / 146_096)) / 365,
  );
  const dayOfYear = ofEra - (365 * yearOfEra + Math.floor(yearOfEra / 4) - Math.floor(yearOfEra / 100));
  const shiftedMonth = Math.floor((5 * dayOfYear + 2) / 153);
  const month = shiftedMonth < 10 ? shiftedMonth + 3 : shiftedMonth - 9;
  return {
    year: yearOfEra + era * 400 + (month <= 2 ? 1 : 0),
    month,
    date: dayOfYear - Math.floor((153 * shiftedMonth + 2) / 5) + 1,
  };
}

/** The number of the period that a day lies in; a later period has a higher one. Weeks begin on Monday (ISO 8601). */
export function periodOfDay(day: number, period: Period): number {
  switch (period) {
    case "daily":
      return day;
    case "weekly":
      return Math.floor((day + 3) / 7);
    case "monthly":
    case "quarterly":
    case "yearly": {
      const { year, month } = civilOf(day);
      if (period === "yearly") return year;
      return period === "monthly" ? year * 12 + month - 1 : year * 4 + Math.floor((month - 1) / 3);
    }
  }
}

export const MONTHS = [
  "January",
  "February",
  "March",
  "April",
  "May",
  "June",
  "July",
  "August",
  "September",
  "October",
  "November",
  "December",
];

/** The period of a day in words: `the monthly of October 2026`. */
export function periodName(day: number, period: Period): string {
  const { year, month, date } = civilOf(day);
  switch (period) {
    case "daily":
      return `the daily of ${date} ${MONTHS[month - 1]}`;
    case "weekly": {
      const monday = civilOf(Math.floor((day + 3) / 7) * 7 - 3);
      return `the weekly of the week from ${monday.date} ${MONTHS[monday.month - 1]}`;
    }
    case "monthly":
      return `the monthly of ${MONTHS[month - 1]} ${year}`;
    case "quarterly":
      return `the quarterly of ${year}, quarter ${Math.floor((month - 1) / 3) + 1}`;
    case "yearly":
      return `the yearly of ${year}`;
  }
}
