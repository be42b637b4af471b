import { describe, expect, it } from "vitest";
import type { NightCell } from "../protection/nights";
import { lastPeriods, trendOf } from "./trend";

const cell = (clean: number, failed: number): NightCell => ({
  clean,
  failed,
  caution: 0,
  stopped: 0,
  missed: 0,
});

describe("the periods before a day", () => {
  it("are whole months, of any length and over the end of a year", () => {
    expect(lastPeriods("month", "2026-03-31", 4)).toEqual([
      { firstDay: "2025-11-01", lastDay: "2025-11-30" },
      { firstDay: "2025-12-01", lastDay: "2025-12-31" },
      { firstDay: "2026-01-01", lastDay: "2026-01-31" },
      { firstDay: "2026-02-01", lastDay: "2026-02-28" },
    ]);
  });
  it("are weeks from Monday to Sunday; the one that the day is in is not over", () => {
    expect(lastPeriods("week", "2026-11-29", 2)).toEqual([
      { firstDay: "2026-11-09", lastDay: "2026-11-15" },
      { firstDay: "2026-11-16", lastDay: "2026-11-22" },
    ]);
  });
});

describe("the trend", () => {
  it("is the share of runs that left a point; none without runs", () => {
    const nights = new Map([
      ["2026-10-01", cell(3, 1)],
      ["2026-10-31", cell(4, 0)],
      ["2026-11-01", cell(0, 2)],
    ]);
    expect(trendOf(nights, lastPeriods("month", "2026-12-10", 3))).toEqual([null, 7 / 8, 0]);
    expect(trendOf(undefined, lastPeriods("week", "2026-12-10", 2))).toEqual([null, null]);
  });
});
