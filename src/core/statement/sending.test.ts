import fc from "fast-check";
import { DateTime } from "luxon";
import { describe, expect, it } from "vitest";
import { nextSending, periodSent } from "./sending";

const monthly = { every: "month", onDay: 1, at: "07:30" } as const;

describe("sending statements", () => {
  it("goes out on its day, at the clock of the client's zone", () => {
    const after = new Date("2026-11-25T12:00:00Z");
    expect(nextSending(monthly, "Pacific/Auckland", after).toISOString()).toBe("2026-11-30T18:30:00.000Z");
    expect(nextSending({ every: "week", onDay: 3, at: "13:00" }, "UTC", after).toISOString()).toBe(
      "2026-11-25T13:00:00.000Z",
    );
    expect(nextSending({ every: "week", onDay: 3, at: "12:00" }, "UTC", after).toISOString()).toBe(
      "2026-12-02T12:00:00.000Z",
    );
  });
  it("goes out a little later on a day whose clock leaps over its time", () => {
    const sunday = { every: "week", onDay: 7, at: "02:30" } as const;
    expect(nextSending(sunday, "Europe/Berlin", new Date("2026-03-28T12:00:00Z")).toISOString()).toBe(
      "2026-03-29T01:00:00.000Z",
    );
  });
  it("tells of the week or of the month before", () => {
    const at = new Date("2026-11-30T18:30:00Z");
    expect(periodSent("month", "Pacific/Auckland", at)).toEqual({
      firstDay: "2026-11-01",
      lastDay: "2026-11-30",
    });
    expect(periodSent("week", "UTC", at)).toEqual({ firstDay: "2026-11-23", lastDay: "2026-11-29" });
  });
  it("never stands still, and every period follows on the one before", () => {
    fc.assert(
      fc.property(
        fc.constantFrom("week", "month") as fc.Arbitrary<"week" | "month">,
        fc.integer({ min: 1, max: 7 }),
        fc.constantFrom("UTC", "Europe/Berlin", "Pacific/Auckland", "America/St_Johns"),
        fc.date({ min: new Date("2020-01-01"), max: new Date("2035-01-01"), noInvalidDate: true }),
        (every, onDay, zone, after) => {
          const schedule = { every, onDay, at: "02:15" };
          const first = nextSending(schedule, zone, after);
          const second = nextSending(schedule, zone, first);
          expect(first > after && second > first).toBe(true);
          const end = DateTime.fromISO(periodSent(every, zone, first).lastDay, { zone });
          expect(end.plus({ days: 1 }).toISODate()).toBe(periodSent(every, zone, second).firstDay);
        },
      ),
    );
  });
});
