import fc from "fast-check";
import { describe, expect, it } from "vitest";
import { forecastFilling } from "./filling";

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
