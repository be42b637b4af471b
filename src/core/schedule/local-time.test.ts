import fc from "fast-check";
import { DateTime } from "luxon";
import { describe, expect, it } from "vitest";
import { isZone, localMoment, momentOfWall, wallOf } from "./local-time";

/** Zones with clock changes of an hour, of half an hour, at midnight, south of the equator, and none. */
const ZONES = [
  "Europe/London",
  "America/New_York",
  "Pacific/Auckland",
  "Australia/Lord_Howe",
  "America/Santiago",
  "Africa/Cairo",
  "Asia/Kolkata",
  "UTC",
];
const two = (value: number) => String(value).padStart(2, "0");

/**
 * The same, plainly: the first minute at which the clock shows the wall time; where none does, the first whose clock shows
 * a later one.
 */
function plainly(day: string, at: string, zone: string): number {
  const wanted = `${day} ${at}`;
  const begin = DateTime.fromISO(`${day}T00:00`, { zone: "UTC" }).minus({ hours: 15 }).toMillis();
  let later: number | null = null;
  for (let minute = 0; minute < 56 * 60; minute += 1) {
    const moment = begin + minute * 60_000;
    const shown = DateTime.fromMillis(moment, { zone }).toFormat("yyyy-MM-dd HH:mm");
    if (shown === wanted) return moment;
    if (later === null && shown > wanted && minute > 0) later = moment;
  }
  return later!;
}

/** Days around clock changes, where something can go wrong, and others. */
const days = fc.oneof(
  fc.constantFrom(
    "2026-03-29",
    "2026-10-25",
    "2026-03-08",
    "2026-11-01",
    "2026-04-05",
    "2026-09-27",
    "2026-10-04",
    "2026-09-06",
    "2026-04-24",
    "2026-10-30",
    "2026-10-29",
  ),
  fc.nat(364).map((day) => DateTime.fromISO("2026-01-01").plus({ days: day }).toISODate()!),
);

describe("a time of day on a day of a zone", () => {
  it("is the first moment whose clock shows it, or the first after the gap that a clock change makes", () => {
    fc.assert(
      fc.property(days, fc.nat(1439), fc.constantFrom(...ZONES), (day, minute, zone) => {
        const at = `${two(Math.floor(minute / 60))}:${two(minute % 60)}`;
        const start = DateTime.fromISO(day, { zone }).startOf("day");
        expect(localMoment(start, at).toUTC().toISO()).toBe(new Date(plainly(day, at, zone)).toISOString());
      }),
      { numRuns: 60 },
    );
  });

  it("is found from what the clock shows, too", () => {
    fc.assert(
      fc.property(days, fc.nat(1439), fc.constantFrom(...ZONES), (day, minute, zone) => {
        const wall = DateTime.fromISO(`${day}T00:00`, { zone: "UTC" }).toMillis() + minute * 60_000;
        const at = `${two(Math.floor(minute / 60))}:${two(minute % 60)}`;
        expect(new Date(momentOfWall(wall, zone)).toISOString()).toBe(
          new Date(plainly(day, at, zone)).toISOString(),
        );
      }),
      { numRuns: 60 },
    );
  });

  it("is shown by the clock of its zone", () => {
    const moment = new Date("2026-07-01T12:00:00Z");
    const shown = (zone: string) => new Date(wallOf(moment, zone)).toISOString();
    expect(shown("Europe/London")).toBe("2026-07-01T13:00:00.000Z");
    expect(shown("Asia/Kolkata")).toBe("2026-07-01T17:30:00.000Z");
    expect(shown("America/Santiago")).toBe("2026-07-01T08:00:00.000Z");
  });
});

it.each([
  ["Europe/London", true],
  ["UTC", true],
  ["Europe/Merrow", false],
  ["", false],
  ["../etc/passwd", false],
])("knows whether there is a zone %s", (zone, there) => {
  expect(isZone(zone)).toBe(there);
});
