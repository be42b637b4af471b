import fc from "fast-check";
import { describe, expect, it } from "vitest";
import { everyDay, forecastFilling, growthOf } from "./filling";

describe("how a depot fills", () => {
  it("goes on as it went: ten a day, a hundred left, ten days", () => {
    expect(forecastFilling([10, 10, 10, 10], 900, 1000)).toEqual({
      perDay: 10,
      spread: 0,
      days: 10,
      soonest: 10,
      latest: 10,
    });
  });
  it("has a wider band the less alike the days were", () => {
    const calm = forecastFilling([9, 10, 11, 10], 0, 1000)!;
    const wild = forecastFilling([0, 20, 1, 19], 0, 1000)!;
    expect(wild.spread).toBeGreaterThan(calm.spread);
    expect(wild.soonest!).toBeLessThan(calm.soonest!);
  });
  it("never fills when nothing is added, or when nothing limits it", () => {
    expect(forecastFilling([0, 0, 0], 5, 10)).toMatchObject({ days: null, soonest: null, latest: null });
    expect(forecastFilling([-4, -2, -3], 5, 10)!.days).toBeNull();
    expect(forecastFilling([4, 2, 3], 5, null)!.days).toBeNull();
  });
  it("is full when it is full", () => {
    expect(forecastFilling([1, 1, 1], 10, 10)!.days).toBe(0);
  });
  it("says nothing from two days", () => {
    expect(forecastFilling([1, 1], 0, 10)).toBeNull();
  });
  it("puts the day between the soonest and the latest", () => {
    const days = fc.array(fc.integer({ min: 0, max: 1_000_000 }), { minLength: 3, maxLength: 40 });
    fc.assert(
      fc.property(days, fc.nat(1_000_000), fc.integer({ min: 1, max: 10_000_000 }), (added, used, limit) => {
        const { days: middle, soonest, latest } = forecastFilling(added, used, limit)!;
        if (middle === null) return;
        expect(soonest!).toBeLessThanOrEqual(middle);
        if (latest !== null) expect(latest).toBeGreaterThanOrEqual(middle);
      }),
    );
  });
});

describe("the days that were", () => {
  const used = (...all: [day: string, used: number][]) => all.map(([day, used]) => ({ day, used }));
  it("grow by what was stored less what was freed", () => {
    const days = used(["2026-11-01", 100], ["2026-11-02", 130], ["2026-11-03", 90], ["2026-11-04", 90]);
    expect(everyDay(days)).toEqual(days);
    expect(growthOf(days)).toEqual([30, -40, 0]);
    expect(growthOf(used(["2026-11-01", 5]))).toEqual([]);
    expect(growthOf([])).toEqual([]);
  });
  it("go on evenly where none was noted, over the end of a month too", () => {
    expect(everyDay(used(["2026-02-27", 10], ["2026-03-02", 40], ["2026-03-03", 41]))).toEqual(
      used(
        ["2026-02-27", 10],
        ["2026-02-28", 20],
        ["2026-03-01", 30],
        ["2026-03-02", 40],
        ["2026-03-03", 41],
      ),
    );
  });
  it("lose nothing when gaps are filled: all growth together is the last less the first", () => {
    const series = fc
      .uniqueArray(fc.tuple(fc.nat(60), fc.nat(1_000_000)), { selector: ([day]) => day, minLength: 1 })
      .map((all) =>
        all
          .sort(([a], [b]) => a - b)
          .map(([day, bytes]) => ({
            day: new Date(Date.UTC(2026, 9, 1 + day)).toISOString().slice(0, 10),
            used: bytes,
          })),
      );
    fc.assert(
      fc.property(series, (noted) => {
        const days = everyDay(noted);
        expect(growthOf(days).reduce((sum, one) => sum + one, 0)).toBe(noted.at(-1)!.used - noted[0]!.used);
        expect(days.filter((one) => noted.includes(one))).toEqual(noted);
        const first = Date.parse(days[0]!.day);
        days.forEach((one, i) => {
          expect(Date.parse(one.day)).toBe(first + i * 86_400_000);
        });
      }),
    );
  });
  it("of a depot that frees what it stores say that it does not fill, whatever is stored each night", () => {
    // 14 points are kept: each night stores one and frees the oldest
    const days = Array.from({ length: 30 }, (_, i) => ({
      day: new Date(Date.UTC(2026, 10, 1 + i)).toISOString().slice(0, 10),
      used: 10_000 + (i % 3) * 10,
    }));
    const { perDay, days: full } = forecastFilling(growthOf(days), 10_000, 11_000)!;
    expect(Math.abs(perDay)).toBeLessThan(1);
    expect(full === null || full > 1000).toBe(true);
  });
});
