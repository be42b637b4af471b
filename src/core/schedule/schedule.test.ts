import fc from "fast-check";
import { DateTime, IANAZone } from "luxon";
import { RRuleTemporal } from "rrule-temporal";
import { describe, expect, it } from "vitest";
import { clockMoments, everFires, wallsOf } from "./occurrences";
import { type Plan, planSentence, shareOf } from "./plan";
import { formatRule, parseRule, type Rule, type RuleDay, RuleError, ruleSentence, rulesAt } from "./rule";
import { longestPause, nextRuns, stopsAt } from "./schedule";
import { shiftRule } from "./shift";
import type { Weekday } from "./weekday";
import type { Window } from "./window";
import { openSpan } from "./windows";

const plan = (rule: string | readonly string[], more: Partial<Plan> = {}): Plan => ({
  schedules: [rule].flat().map((one) => ({ rule: one, pass: "incremental" as const })),
  windows: [],
  spreadMinutes: 0,
  ...more,
});
const iso = (dues: readonly { at: Date }[]) => dues.map(({ at }) => at.toISOString());
const on = (text: string) => new Date(text);

describe("when runs are due", () => {
  it("keeps the local time across a clock change", () => {
    expect(iso(nextRuns(plan(rulesAt("21:30")), "Europe/Lisbon", on("2026-10-24T12:00:00Z"), 3))).toEqual([
      "2026-10-24T20:30:00.000Z",
      "2026-10-25T21:30:00.000Z",
      "2026-10-26T21:30:00.000Z",
    ]);
  });

  it("runs at the next time that exists when a clock change removes it", () => {
    expect(iso(nextRuns(plan(rulesAt("02:30")), "Europe/Berlin", on("2026-03-28T12:00:00Z"), 2))).toEqual([
      "2026-03-29T01:00:00.000Z",
      "2026-03-30T00:30:00.000Z",
    ]);
  });

  it("runs once at a time that happens twice", () => {
    expect(iso(nextRuns(plan(rulesAt("02:30")), "Europe/Berlin", on("2026-10-24T12:00:00Z"), 2))).toEqual([
      "2026-10-25T00:30:00.000Z",
      "2026-10-26T01:30:00.000Z",
    ]);
  });

  it("goes on every quarter of an hour through a night in which the clock changes", () => {
    const runs = nextRuns(
      plan("FREQ=MINUTELY;INTERVAL=15"),
      "Europe/Berlin",
      on("2026-10-25T00:00:00Z"),
      12,
      {
        anchor: on("2026-10-25T00:00:00Z"),
      },
    );
    expect(runs.at(-1)!.at).toEqual(on("2026-10-25T03:00:00Z"));
  });

  it("counts an interval from the last due time, and begins at once without one", () => {
    const every = plan("FREQ=HOURLY;INTERVAL=4");
    const anchor = on("2026-11-24T06:10:00Z");
    expect(iso(nextRuns(every, "UTC", on("2026-11-24T15:00:00Z"), 2, { anchor }))).toEqual([
      "2026-11-24T18:10:00.000Z",
      "2026-11-24T22:10:00.000Z",
    ]);
    expect(nextRuns(every, "UTC", on("2026-11-24T15:00:30Z"), 1)[0]!.at).toEqual(on("2026-11-24T15:01:00Z"));
  });

  it("runs an interval only in its hours of its days", () => {
    const every = plan("FREQ=HOURLY;INTERVAL=4;BYDAY=MO,TU,WE,TH,FR;BYHOUR=8,9,10,11,12,13,14,15,16,17");
    // a Friday
    expect(
      iso(nextRuns(every, "UTC", on("2026-11-27T00:00:00Z"), 4, { anchor: on("2026-11-26T00:00:00Z") })),
    ).toEqual([
      "2026-11-27T08:00:00.000Z",
      "2026-11-27T12:00:00.000Z",
      "2026-11-27T16:00:00.000Z",
      "2026-11-30T08:00:00.000Z",
    ]);
  });

  it("knows the first Saturday and the last day of a month", () => {
    const both = plan([
      "FREQ=MONTHLY;BYDAY=1SA;BYHOUR=6;BYMINUTE=0",
      "FREQ=MONTHLY;BYMONTHDAY=-1;BYHOUR=23;BYMINUTE=0",
    ]);
    expect(iso(nextRuns(both, "UTC", on("2027-01-15T00:00:00Z"), 4))).toEqual([
      "2027-01-31T23:00:00.000Z",
      "2027-02-06T06:00:00.000Z",
      "2027-02-28T23:00:00.000Z",
      "2027-03-06T06:00:00.000Z",
    ]);
  });

  it("runs once where two schedules fall together, as the full one", () => {
    const both: Plan = {
      ...plan(rulesAt("21:30")),
      schedules: [
        { rule: rulesAt("21:30"), pass: "incremental" },
        { rule: rulesAt("21:30", [6]), pass: "full" },
      ],
    };
    expect(nextRuns(both, "UTC", on("2026-11-27T00:00:00Z"), 3).map(({ pass }) => pass)).toEqual([
      "incremental",
      "full",
      "incremental",
    ]);
  });

  it("moves what is due outside the windows to the next opening, once", () => {
    const night: Window = { days: [], from: "22:00", to: "05:00" };
    const runs = nextRuns(
      plan([rulesAt("12:00"), rulesAt("13:00")], { windows: [night] }),
      "UTC",
      on("2026-11-24T10:00:00Z"),
      2,
    );
    expect(iso(runs)).toEqual(["2026-11-24T22:00:00.000Z", "2026-11-25T22:00:00.000Z"]);
  });

  it("counts an interval from each opening of a window", () => {
    const night: Window = { days: [], from: "20:00", to: "06:00" };
    const runs = nextRuns(
      plan("FREQ=HOURLY;INTERVAL=4", { windows: [night] }),
      "UTC",
      on("2026-11-24T20:30:00Z"),
      4,
    );
    expect(iso(runs)).toEqual([
      "2026-11-25T00:00:00.000Z",
      "2026-11-25T04:00:00.000Z",
      "2026-11-25T20:00:00.000Z",
      "2026-11-26T00:00:00.000Z",
    ]);
  });

  it("has nothing due on demand, and nothing for a day that never comes", () => {
    expect(nextRuns(plan([]), "UTC", on("2026-01-01T00:00:00Z"), 5)).toEqual([]);
    expect(
      nextRuns(
        plan("FREQ=YEARLY;BYMONTH=2;BYMONTHDAY=29;BYHOUR=1;BYMINUTE=0"),
        "UTC",
        on("2026-01-01T00:00:00Z"),
        1,
      ),
    ).toHaveLength(1);
    // Sunday alone is open, Monday alone is asked for: moved to the Sunday after
    const sunday: Window = { days: [7], from: "08:00", to: "09:00" };
    expect(
      nextRuns(plan(rulesAt("08:30", [1]), { windows: [sunday] }), "UTC", on("2026-11-24T00:00:00Z"), 1)[0]!
        .at,
    ).toEqual(on("2026-11-29T08:00:00Z"));
  });

  it("spreads sources, each always at its own part and none out of the window", () => {
    const spread = plan(rulesAt("21:30"), { spreadMinutes: 60 });
    const ids = Array.from(
      { length: 400 },
      (_, i) => `5b6f0c1e-0000-4000-8000-${String(i).padStart(12, "0")}`,
    );
    const starts = ids.map((sourceId) =>
      nextRuns(spread, "UTC", on("2026-11-24T12:00:00Z"), 1, { sourceId })[0]!.at.getTime(),
    );
    expect(Math.min(...starts)).toBeGreaterThanOrEqual(on("2026-11-24T21:30:00Z").getTime());
    expect(Math.max(...starts)).toBeLessThan(on("2026-11-24T22:30:00Z").getTime());
    // no second has more than a few of them
    const perSecond = new Map<number, number>();
    for (const start of starts) perSecond.set(start, (perSecond.get(start) ?? 0) + 1);
    expect(Math.max(...perSecond.values())).toBeLessThan(5);
    expect(shareOf(ids[7]!)).toBe(shareOf(ids[7]!));
    const tight = plan(rulesAt("21:30"), {
      spreadMinutes: 60,
      windows: [{ days: [], from: "21:00", to: "21:40" }],
    });
    for (const sourceId of ids.slice(0, 50)) {
      const [due] = nextRuns(tight, "UTC", on("2026-11-24T12:00:00Z"), 1, { sourceId });
      expect(openSpan(tight.windows, "UTC", due!.at)).not.toBeNull();
    }
  });

  it("ends a run with its window or its hours, whichever comes first", () => {
    const night: Window = { days: [], from: "20:00", to: "06:00" };
    const start = on("2026-11-24T21:30:00Z");
    expect(stopsAt({ windows: [night] }, null, "UTC", start)).toEqual(on("2026-11-25T06:00:00Z"));
    expect(stopsAt({ windows: [night] }, 2, "UTC", start)).toEqual(on("2026-11-24T23:30:00Z"));
    expect(stopsAt({ windows: [] }, null, "UTC", start)).toBeNull();
  });
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
const weekdays = fc.uniqueArray(fc.integer({ min: 1, max: 7 }), { minLength: 1 }) as fc.Arbitrary<Weekday[]>;
const moment = fc.date({ min: on("2026-01-01"), max: on("2027-12-31"), noInvalidDate: true });

describe("schedules against a slow reference", () => {
  it("agrees with one that looks at every minute", () => {
    fc.assert(
      fc.property(fc.constantFrom(...zones), time, weekdays, moment, (zone, at, days, after) => {
        const [first] = nextRuns(plan(rulesAt(at, days)), zone, after, 1);
        const local = DateTime.fromJSDate(first!.at, { zone });
        expect(first!.at > after).toBe(true);
        expect(days).toContain(local.weekday);
        const startOfDay = local.startOf("day");
        let reference = startOfDay;
        while (reference.hasSame(startOfDay, "day") && reference.toFormat("HH:mm") < at)
          reference = reference.plus({ minutes: 1 });
        expect(local.toMillis()).toBe(reference.toMillis());
      }),
      { numRuns: 25 },
    );
  });

  it("agrees with one that looks at every day, for days of a month", () => {
    const rule = fc.oneof(
      fc
        .integer({ min: 1, max: 28 })
        .map((day) => [`BYMONTHDAY=${day}`, (d: DateTime) => d.day === day] as const),
      fc.constant(["BYMONTHDAY=-1", (d: DateTime) => d.day === d.daysInMonth] as const),
      fc
        .tuple(fc.integer({ min: 1, max: 4 }), fc.integer({ min: 1, max: 7 }))
        .map(
          ([nth, weekday]) =>
            [
              `BYDAY=${nth}${["MO", "TU", "WE", "TH", "FR", "SA", "SU"][weekday - 1]}`,
              (d: DateTime) => d.weekday === weekday && Math.ceil(d.day / 7) === nth,
            ] as const,
        ),
    );
    fc.assert(
      fc.property(fc.constantFrom(...zones), rule, moment, (zone, [part, suits], after) => {
        const found = clockMoments(
          parseRule(`FREQ=MONTHLY;${part};BYHOUR=12;BYMINUTE=0`),
          zone,
          after,
          new Date(after.getTime() + 100 * 86_400_000),
        );
        const reference: number[] = [];
        for (
          let day = DateTime.fromJSDate(after, { zone }).startOf("day");
          day.toMillis() < after.getTime() + 100 * 86_400_000;
          day = day.plus({ days: 1 }).startOf("day")
        ) {
          const noon = day.set({ hour: 12 }).toMillis();
          if (suits(day) && noon >= after.getTime() && noon < after.getTime() + 100 * 86_400_000)
            reference.push(noon);
        }
        expect(found.map((one) => one.getTime())).toEqual(reference);
      }),
      { numRuns: 60 },
    );
  });

  /** Wall times by a library of RFC 5545, for rules that have days of their own. */
  const wallsByLibrary = (rule: Rule, from: number, to: number): number[] =>
    new RRuleTemporal({ rruleString: `DTSTART:20240101T000000Z\nRRULE:${formatRule(rule)}` })
      .between(new Date(from), new Date(to), true)
      .map((time) => time.epochMilliseconds);

  it("agrees with the library of RFC 5545 about days, weeks, months and years", () => {
    const plain = fc
      .uniqueArray(fc.integer({ min: 1, max: 7 }), { maxLength: 4 })
      .map((days) => days.sort().map((day) => ({ day: day as Weekday, nth: null })));
    const nth = fc
      .tuple(fc.integer({ min: 1, max: 7 }), fc.constantFrom(1, 2, 4, -1, -2))
      .map(([day, of]) => [{ day: day as Weekday, nth: of }]);
    const monthDays = fc.oneof(
      fc.constant([]),
      fc.uniqueArray(fc.constantFrom(1, 13, 28, 29, 30, 31, -1, -3), { minLength: 1, maxLength: 3 }),
    );
    const rule = fc
      .record({
        frequency: fc.constantFrom(
          "DAILY" as const,
          "WEEKLY" as const,
          "MONTHLY" as const,
          "YEARLY" as const,
        ),
        interval: fc.integer({ min: 1, max: 9 }),
        days: fc.oneof(plain, nth),
        monthDays,
        months: fc.constantFrom([], [3], [2], [1, 11]),
        hours: fc.constantFrom([6], [8, 20]),
        minutes: fc.constantFrom([0], [15, 45]),
        positions: fc.constantFrom([], [], [1], [-1], [2, -2]),
      })
      .filter((one) => one.days.length + one.monthDays.length > 0)
      .filter(({ frequency, monthDays, days }) => {
        const of = (days as readonly RuleDay[]).some((day) => day.nth !== null);
        if (frequency === "DAILY") return !of;
        if (frequency === "WEEKLY") return !of && monthDays.length === 0;
        // a weekday of a year beside a day of a month: the library and the standard part there
        return !(of && monthDays.length);
      });
    fc.assert(
      fc.property(rule, moment, (wanted, from) => {
        const [a, b] = [from.getTime(), from.getTime() + 500 * 86_400_000];
        expect(wallsOf(wanted, a, b)).toEqual(wallsByLibrary(wanted, a, b));
      }),
      { numRuns: 300 },
    );
  });

  /** Minute by minute, as one would say it: whether a rule by the clock fires at a wall time. */
  const TEN_ZONES = [
    "UTC",
    "Europe/Berlin",
    "Europe/London",
    "America/St_Johns",
    "America/Sao_Paulo",
    "Australia/Lord_Howe",
    "Pacific/Auckland",
    "Africa/Casablanca",
    "Asia/Kathmandu",
    "Pacific/Apia",
  ];
  /** Around the clock changes of those zones, and in between. */
  const NEAR_CHANGES = [
    "2026-03-07T20:00:00Z",
    "2026-03-28T20:00:00Z",
    "2026-04-04T10:00:00Z",
    "2026-06-15T07:00:00Z",
    "2026-10-03T12:00:00Z",
    "2026-10-24T20:00:00Z",
    "2026-11-01T01:00:00Z",
    "2027-01-30T12:00:00Z",
  ];
  const window: fc.Arbitrary<readonly Window[]> = fc.oneof(
    fc.constant([]),
    // that meet at both ends: open all day
    fc.constant([
      { days: [], from: "08:00", to: "20:00" },
      { days: [], from: "20:00", to: "08:00" },
    ]),
    // that meet, and close once a week
    fc.constant([
      { days: [1, 2, 3, 4, 5, 6] as Weekday[], from: "08:00", to: "20:00" },
      { days: [1, 2, 3, 4, 5, 6] as Weekday[], from: "20:00", to: "08:00" },
    ]),
    fc
      .record({ days: fc.constantFrom<Weekday[]>([], [1, 2, 3, 4, 5]), from: time, to: time })
      .map((one) => [one]),
  );
  const two = (value: number) => String(value).padStart(2, "0");
  /** `wall`: what the clock shows, as if it were UTC. */
  const inWindow = (windows: readonly Window[], wall: number): boolean => {
    if (windows.length === 0) return true;
    const shown = new Date(wall);
    const at = `${two(shown.getUTCHours())}:${two(shown.getUTCMinutes())}`;
    const weekday = shown.getUTCDay() || 7;
    const before = ((weekday + 5) % 7) + 1;
    const on = (one: Window, weekday: number) =>
      one.days.length === 0 || one.days.includes(weekday as Weekday);
    return windows.some((one) =>
      one.to > one.from
        ? on(one, weekday) && at >= one.from && at < one.to
        : (on(one, weekday) && at >= one.from) || (on(one, before) && at < one.to),
    );
  };

  it("finds what a search minute by minute finds, in ten zones, around their clock changes, in windows that meet", () => {
    const rule = fc.oneof(
      fc.tuple(time, weekdays).map(([at, days]) => rulesAt(at, days)),
      time.map((at) => rulesAt(at)),
      fc
        .tuple(fc.constantFrom(2, 3, 6), fc.constantFrom("0", "10,40"))
        .map(([step, minutes]) => `FREQ=HOURLY;INTERVAL=${step};BYMINUTE=${minutes}`),
      fc.constantFrom(
        "FREQ=DAILY;BYMONTHDAY=28,29,-1;BYHOUR=2;BYMINUTE=30",
        "FREQ=MONTHLY;BYMONTHDAY=1,-1;BYHOUR=0,23;BYMINUTE=15",
        "FREQ=MONTHLY;BYDAY=SA,SU;BYSETPOS=1,-1;BYHOUR=3;BYMINUTE=0",
      ),
    );
    fc.assert(
      fc.property(
        rule,
        window,
        fc.constantFrom(...TEN_ZONES),
        fc.constantFrom(...NEAR_CHANGES),
        (text, windows, zone, start) => {
          const after = on(start);
          const days = 4;
          const end = after.getTime() + days * 86_400_000;
          const found = nextRuns(plan(text, { windows }), zone, after, 200, { until: new Date(end) });
          // what is due by the clock: every minute, and minutes that a change removed with the first one after it
          const parsed = parseRule(text);
          const walls = new Set(wallsOf(parsed, after.getTime() - 12 * 86_400_000, end + 86_400_000));
          const seen = new Set<number>();
          const due = new Set<number>();
          const clock = IANAZone.create(zone);
          let offset = 0;
          let waiting = false;
          let wallBefore: number | null = null;
          for (let ms = after.getTime() - 10 * 86_400_000; ms <= end; ms += 60_000) {
            // clocks change at quarters of an hour
            if (ms % 900_000 === 0 || wallBefore === null) offset = clock.offset(ms) * 60_000;
            const wall = ms + offset;
            for (
              let one = wallBefore === null ? wall : Math.min(wall, wallBefore + 60_000);
              one <= wall;
              one += 60_000
            )
              if (walls.has(one) && !seen.has(one)) {
                seen.add(one);
                waiting = true;
              }
            wallBefore = wallBefore === null ? wall : Math.max(wall, wallBefore);
            if (waiting && inWindow(windows, wall)) {
              due.add(ms);
              waiting = false;
            }
          }
          const expected = [...due].filter((ms) => ms > after.getTime()).sort((a, b) => a - b);
          expect(found.map(({ at }) => at.getTime())).toEqual(expected);
        },
      ),
      { numRuns: 100 },
    );
  });

  it("lists an interval as it runs: each from the one before, whenever one asks", () => {
    const rule = fc.oneof(
      fc.integer({ min: 5, max: 3000 }).map((minutes) => `FREQ=MINUTELY;INTERVAL=${minutes}`),
      fc.constantFrom(
        "FREQ=HOURLY;INTERVAL=4;BYHOUR=8,9,10,11,12,13,14,15,16",
        "FREQ=HOURLY;INTERVAL=5;BYDAY=MO,WE",
        "FREQ=HOURLY;INTERVAL=3;BYMINUTE=20",
        "FREQ=MINUTELY;INTERVAL=45;BYMINUTE=0,30",
      ),
    );
    fc.assert(
      fc.property(rule, window, fc.constantFrom(...TEN_ZONES), moment, (text, windows, zone, begin) => {
        const wanted = plan(text, { windows });
        const [first] = nextRuns(wanted, zone, begin, 1);
        if (!first) return;
        const listed = nextRuns(wanted, zone, first.at, 12, { anchor: first.at });
        // as the runner does it: the next after each, counted from it
        let anchor = first.at;
        for (const one of listed) {
          const [next] = nextRuns(wanted, zone, anchor, 1, { anchor });
          expect(next!.at).toEqual(one.at);
          anchor = next!.at;
        }
      }),
      { numRuns: 120 },
    );
  });

  it("never leaves a window, never names a moment twice, and goes forward", () => {
    const window = fc.record({
      days: fc.constantFrom<Weekday[]>([], [1, 2, 3, 4, 5], [6, 7]),
      from: time,
      to: time,
    });
    const rules = fc.oneof(
      fc.tuple(time, weekdays).map(([at, days]) => rulesAt(at, days)),
      fc.integer({ min: 7, max: 900 }).map((minutes) => `FREQ=MINUTELY;INTERVAL=${minutes}`),
    );
    fc.assert(
      fc.property(
        fc.constantFrom(...zones),
        fc.array(rules, { minLength: 1, maxLength: 3 }),
        fc.array(
          window.filter(({ from, to }) => from !== to),
          { maxLength: 2 },
        ),
        fc.nat(120),
        moment,
        fc.integer({ min: 1, max: 10 }),
        (zone, texts, windows, spreadMinutes, after, days) => {
          const wanted = plan(texts, { windows, spreadMinutes });
          const runs = nextRuns(wanted, zone, after, 8, { sourceId: "a-source", anchor: after });
          expect(runs.length).toBeGreaterThan(0);
          for (const [i, { at }] of runs.entries()) {
            expect(openSpan(windows, zone, at)).not.toBeNull();
            expect(at > (runs[i - 1]?.at ?? after)).toBe(true);
          }
          // up to a moment there are those, and no others
          const until = new Date(after.getTime() + days * 86_400_000);
          const options = { sourceId: "a-source", anchor: after };
          const most = 3000;
          const short = nextRuns(wanted, zone, after, most, { ...options, until });
          const long = nextRuns(wanted, zone, after, short.length + 1, options);
          expect(iso(short)).toEqual(iso(long.filter(({ at }) => at <= until)));
        },
      ),
      { numRuns: 60 },
    );
  });
});

describe("a rule that is moved on the clock", () => {
  it.each([
    [rulesAt("23:30"), 60, rulesAt("00:30")],
    [rulesAt("23:30", [5]), 60, rulesAt("00:30", [6])],
    [rulesAt("00:15", [1]), -30, rulesAt("23:45", [7])],
    ["FREQ=DAILY;BYMONTH=12;BYHOUR=20;BYMINUTE=0", 60, "FREQ=DAILY;BYMONTH=12;BYHOUR=21;BYMINUTE=0"],
  ])("%s by %d", (text, minutes, moved) => {
    expect(shiftRule(text, minutes)).toBe(formatRule(parseRule(moved)));
  });
  it.each([
    "FREQ=DAILY;BYMONTH=12;BYHOUR=23;BYMINUTE=30",
    "FREQ=DAILY;BYMONTHDAY=31;BYHOUR=23;BYMINUTE=30",
    "FREQ=WEEKLY;BYMONTH=3;BYDAY=MO;BYHOUR=23;BYMINUTE=30",
    "FREQ=MONTHLY;BYMONTHDAY=1;BYHOUR=23;BYMINUTE=30",
  ])("%s does not pass midnight: its day would be another", (text) => {
    expect(() => shiftRule(text, 60)).toThrow(/past midnight/);
  });
  it("runs on the same days as before, a fixed time later", () => {
    const start = on("2026-11-30T00:00:00Z");
    fc.assert(
      fc.property(time, weekdays, fc.integer({ min: -1439, max: 1439 }), (at, days, minutes) => {
        const before = nextRuns(plan(rulesAt(at, days)), "UTC", start, 20).map((due) => due.at.getTime());
        const after = nextRuns(
          plan(shiftRule(rulesAt(at, days), minutes)),
          "UTC",
          new Date(start.getTime() + minutes * 60_000),
          20,
        ).map((due) => due.at.getTime());
        expect(after).toEqual(before.map((one) => one + minutes * 60_000));
      }),
    );
  });
});

describe("rules that hardly ever fire", () => {
  it.each([
    ["FREQ=MONTHLY;INTERVAL=12;BYMONTH=2;BYMONTHDAY=1", false],
    ["FREQ=MONTHLY;INTERVAL=2;BYMONTH=2", false],
    ["FREQ=MONTHLY;BYDAY=MO;BYSETPOS=6", false],
    ["FREQ=YEARLY;BYMONTH=2;BYMONTHDAY=29;INTERVAL=3", true],
    ["FREQ=DAILY;INTERVAL=28;BYMONTH=2;BYMONTHDAY=29", true],
    ["FREQ=DAILY;INTERVAL=7;BYMONTHDAY=31", true],
  ])("%s: %s", (text, fires) => {
    expect(everFires(parseRule(text))).toBe(fires);
    expect(nextRuns(plan(text), "UTC", on("2026-11-30T00:00:00Z"), 1).length).toBe(fires ? 1 : 0);
  });
});

describe("rules", () => {
  it.each([
    [rulesAt("21:30"), "Every day at 21:30", 24],
    [rulesAt("22:00", [1, 2, 3, 4, 5]), "Every working day at 22:00", 72],
    [rulesAt("06:00", [7, 3]), "Every Wednesday and Sunday at 06:00", 96],
    ["FREQ=HOURLY", "Every hour", 1],
    ["FREQ=MINUTELY;INTERVAL=15", "Every 15 minutes", 0.25],
    ["FREQ=HOURLY;INTERVAL=4;BYHOUR=8,9,10,11", "Every 4 hours from 8:00 to 11:59", 24],
    ["FREQ=MONTHLY;BYDAY=-1FR;BYHOUR=20;BYMINUTE=0", "On the last Friday of every month at 20:00", 35 * 24],
    ["FREQ=MONTHLY;BYMONTHDAY=-1;BYHOUR=1;BYMINUTE=5", "On the last day of every month at 01:05", 31 * 24],
    ["FREQ=WEEKLY;INTERVAL=2;BYDAY=TU;BYHOUR=6;BYMINUTE=0", "Every 2 weeks on Tuesday at 06:00", 336],
    ["FREQ=DAILY;BYHOUR=8,12,16;BYMINUTE=0", "Every day at 08:00, 12:00 and 16:00", 16],
  ])("%s", (rule, sentence, pause) => {
    expect(ruleSentence(parseRule(rule))).toBe(sentence);
    expect(longestPause(plan(rule), on("2026-11-24T00:00:00Z"))).toBe(pause);
    expect(formatRule(parseRule(rule))).toBe(formatRule(parseRule(formatRule(parseRule(rule)))));
  });

  it("says all schedules and windows in one sentence", () => {
    expect(
      planSentence(
        plan([rulesAt("21:30", [1, 2, 3, 4, 5]), "FREQ=HOURLY;INTERVAL=4"], {
          windows: [{ days: [], from: "20:00", to: "06:00" }],
        }),
      ),
    ).toBe("Every working day at 21:30, and every 4 hours; only 20:00 to 06:00");
    expect(planSentence(plan([]))).toBe("On request only");
  });

  it.each([
    ["", /no part of a rule/],
    ["FREQ=SOMETIMES", /needs a frequency/],
    ["FREQ=DAILY;COUNT=3", /Remove COUNT and UNTIL/],
    ["FREQ=DAILY;FREQ=DAILY", /twice/],
    ["FREQ=DAILY;BYHOUR=24", /BYHOUR must be a whole number from 0 to 23/],
    ["FREQ=MINUTELY;INTERVAL=0", /INTERVAL must be/],
    ["FREQ=YEARLY;BYMONTH=2,4;BYMONTHDAY=31", /never fires/],
    ["FREQ=MONTHLY;BYDAY=6MO", /never fires/],
    ["FREQ=WEEKLY;BYDAY=1MO", /FREQ=MONTHLY/],
    ["FREQ=DAILY;BYEASTER=1", /no place/],
    ["FREQ=MONTHLY;BYMONTHDAY=0", /no day 0/],
    ["FREQ=MONTHLY;BYDAY=MO;BYSETPOS=0", /no position 0/],
    ["FREQ=DAILY;INTERVAL=2,3", /INTERVAL must be one number/],
    ["FREQ=WEEKLY;INTERVAL=2;WKST=SU", /begin on Monday/],
    ["FREQ=WEEKLY;BYMONTHDAY=13", /no place in a weekly rule/],
  ])("refuses %j and says why", (text, why) => {
    expect(() => parseRule(text)).toThrow(RuleError);
    expect(() => parseRule(text)).toThrow(why);
  });
});
