import fc from "fast-check";
import { DateTime } from "luxon";
import { describe, expect, it } from "vitest";
import { longestPause, nextRuns, type Schedule, scheduleSentence, type Weekday } from "./schedule";

const iso = (dates: Date[]) => dates.map((date) => date.toISOString());

describe("when runs are due", () => {
  it("keeps the local time across a clock change", () => {
    const runs = nextRuns(
      { kind: "daily", at: "21:30" },
      "Europe/Lisbon",
      new Date("2026-10-24T12:00:00Z"),
      3,
    );
    expect(iso(runs)).toEqual([
      "2026-10-24T20:30:00.000Z",
      "2026-10-25T21:30:00.000Z",
      "2026-10-26T21:30:00.000Z",
    ]);
  });

  it("runs at the next time that exists when a clock change removes it", () => {
    const runs = nextRuns(
      { kind: "daily", at: "02:30" },
      "Europe/Berlin",
      new Date("2026-03-28T12:00:00Z"),
      2,
    );
    expect(iso(runs)).toEqual(["2026-03-29T01:00:00.000Z", "2026-03-30T00:30:00.000Z"]);
  });

  it("runs once at a time that happens twice", () => {
    const runs = nextRuns(
      { kind: "daily", at: "02:30" },
      "Europe/Berlin",
      new Date("2026-10-24T12:00:00Z"),
      2,
    );
    expect(iso(runs)).toEqual(["2026-10-25T00:30:00.000Z", "2026-10-26T01:30:00.000Z"]);
  });

  it("counts an interval from the last due time", () => {
    const every: Schedule = { kind: "every", hours: 4 };
    const anchor = new Date("2026-11-24T06:10:00Z");
    expect(iso(nextRuns(every, "UTC", new Date("2026-11-24T15:00:00Z"), 2, anchor))).toEqual([
      "2026-11-24T18:10:00.000Z",
      "2026-11-24T22:10:00.000Z",
    ]);
    expect(nextRuns(every, "UTC", new Date("2026-11-24T15:00:30Z"), 1)[0]).toEqual(
      new Date("2026-11-24T15:01:00Z"),
    );
  });

  it("has nothing due on demand", () => {
    expect(nextRuns({ kind: "on-demand" }, "UTC", new Date(0), 5)).toEqual([]);
  });

  const zones = [
    "UTC",
    "Europe/Berlin",
    "America/St_Johns",
    "Australia/Lord_Howe",
    "Pacific/Auckland",
    "Africa/Casablanca",
  ];
  const time = fc
    .tuple(fc.nat(23), fc.nat(59))
    .map(([h, m]) => `${String(h).padStart(2, "0")}:${String(m).padStart(2, "0")}`);
  const weekdays = fc.uniqueArray(fc.integer({ min: 1, max: 7 }), { minLength: 1 }) as fc.Arbitrary<
    Weekday[]
  >;

  it("agrees with a slow reference that looks at every minute", () => {
    fc.assert(
      fc.property(
        fc.constantFrom(...zones),
        time,
        weekdays,
        fc.date({ min: new Date("2026-01-01"), max: new Date("2027-12-31"), noInvalidDate: true }),
        (zone, at, days, after) => {
          const [first] = nextRuns({ kind: "weekly", days, at }, zone, after, 1);
          // reference: on the local day found, no earlier minute after the wish is that local time or later
          const local = DateTime.fromJSDate(first!, { zone });
          expect(first! > after).toBe(true);
          expect(days).toContain(local.weekday);
          const startOfDay = local.startOf("day");
          let reference = startOfDay;
          while (reference.hasSame(startOfDay, "day") && reference.toFormat("HH:mm") < at)
            reference = reference.plus({ minutes: 1 });
          expect(local.toMillis()).toBe(reference.toMillis());
        },
      ),
      { numRuns: 60 },
    );
  });

  it("never names a moment twice and goes forward", () => {
    fc.assert(
      fc.property(fc.constantFrom(...zones), time, weekdays, (zone, at, days) => {
        const runs = nextRuns({ kind: "weekly", days, at }, zone, new Date("2026-03-20T00:00:00Z"), 12);
        expect(runs).toHaveLength(12);
        for (let i = 1; i < runs.length; i += 1) expect(runs[i]! > runs[i - 1]!).toBe(true);
      }),
    );
  });
});

describe("schedules in words", () => {
  it.each<[Schedule, string, number | null]>([
    [{ kind: "daily", at: "21:30" }, "Every day at 21:30", 24],
    [{ kind: "weekly", days: [1, 2, 3, 4, 5], at: "22:00" }, "Every working day at 22:00", 72],
    [{ kind: "weekly", days: [7, 3], at: "06:00" }, "Every Wednesday and Sunday at 06:00", 96],
    [{ kind: "weekly", days: [2], at: "06:00" }, "Every Tuesday at 06:00", 168],
    [{ kind: "every", hours: 1 }, "Every hour", 1],
    [{ kind: "on-demand" }, "Only when somebody asks", null],
  ])("%j", (schedule, sentence, pause) => {
    expect(scheduleSentence(schedule)).toBe(sentence);
    expect(longestPause(schedule)).toBe(pause);
  });
});
