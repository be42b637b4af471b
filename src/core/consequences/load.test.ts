import fc from "fast-check";
import { describe, expect, it } from "vitest";
import { isMovable, shiftRule } from "../schedule/shift";
import { type LoadDepot, type LoadGroup, peakOf, proposeSpread, weekLoad } from "./load";

const depot: LoadDepot = { id: "harbour", name: "Harbour", atOnce: 4 };
const at = (day: number, hour: number, minute = 0) => day * 1440 + hour * 60 + minute;
const group = (id: string, more: Partial<LoadGroup> = {}): LoadGroup => ({
  id,
  name: id,
  client: id,
  depotIds: ["harbour"],
  starts: [0, 1, 2, 3, 4].map((day) => at(day, 21, 30)),
  sources: 3,
  minutes: 30,
  spread: 0,
  bytes: 1000,
  movable: true,
  ...more,
});

describe("the week over all clients", () => {
  it("has the most that is under way at once in each hour, and outlines what collides", () => {
    const week = weekLoad([group("a"), group("b", { starts: [at(0, 21, 45)] })], depot);
    expect(week[21]).toMatchObject({ peak: 6, collides: true });
    expect(week[22]).toMatchObject({ peak: 3, collides: false });
    expect(week[24 + 21]).toMatchObject({ peak: 3, collides: false, bytes: 1000 });
  });

  it("counts a run over the end of the week into its beginning", () => {
    const week = weekLoad([group("a", { starts: [at(6, 23, 50)] })], depot);
    expect(week[0]!.peak).toBe(3);
  });

  it("spreads the sources of a policy over its minutes", () => {
    const spread = weekLoad([group("a", { sources: 60, minutes: 5, spread: 60 })], depot);
    expect(peakOf(spread)).toBeLessThanOrEqual(5);
  });

  it("moves what collides to where it fits, and leaves the rest", () => {
    const groups = ["a", "b", "c", "d"].map((id) => group(id));
    const alone = group("alone", { starts: [at(2, 3)] });
    const shifts = proposeSpread([...groups, alone], [depot]);
    expect(shifts.alone).toBeUndefined();
    expect(peakOf(weekLoad([...groups, alone], depot))).toBe(12);
    expect(peakOf(weekLoad([...groups, alone], depot, shifts))).toBeLessThanOrEqual(4);
  });

  it("never makes it worse", () => {
    const any = fc.record({
      hour: fc.nat(23),
      sources: fc.integer({ min: 1, max: 9 }),
      minutes: fc.integer({ min: 1, max: 200 }),
      movable: fc.boolean(),
    });
    fc.assert(
      fc.property(fc.array(any, { maxLength: 8 }), (parts) => {
        const groups = parts.map(({ hour, ...rest }, i) =>
          group(String(i), { ...rest, starts: [0, 3].map((day) => at(day, hour)) }),
        );
        const shifts = proposeSpread(groups, [depot]);
        expect(peakOf(weekLoad(groups, depot, shifts))).toBeLessThanOrEqual(
          peakOf(weekLoad(groups, depot)) + 1e-9,
        );
        for (const one of groups) if (!one.movable) expect(shifts[one.id]).toBeUndefined();
      }),
      { numRuns: 25 },
    );
  });
});

describe("moving a schedule", () => {
  it.each([
    ["FREQ=DAILY;BYHOUR=21;BYMINUTE=30", 45, "FREQ=DAILY;BYHOUR=22;BYMINUTE=15"],
    ["FREQ=DAILY;BYHOUR=23;BYMINUTE=30", 60, "FREQ=DAILY;BYHOUR=0;BYMINUTE=30"],
    ["FREQ=WEEKLY;BYDAY=MO,SU;BYHOUR=23;BYMINUTE=30", 60, "FREQ=WEEKLY;BYDAY=MO,TU;BYHOUR=0;BYMINUTE=30"],
    ["FREQ=WEEKLY;BYDAY=MO;BYHOUR=0;BYMINUTE=10", -30, "FREQ=WEEKLY;BYDAY=SU;BYHOUR=23;BYMINUTE=40"],
    ["FREQ=MONTHLY;BYMONTHDAY=3;BYHOUR=1;BYMINUTE=0", -30, "FREQ=MONTHLY;BYMONTHDAY=3;BYHOUR=0;BYMINUTE=30"],
  ])("%s by %i minutes", (rule, minutes, moved) => {
    expect(shiftRule(rule, minutes)).toBe(moved);
  });

  it("refuses what has no single time, or would pass midnight of a day of the month", () => {
    expect(isMovable("FREQ=HOURLY;INTERVAL=4")).toBe(false);
    expect(isMovable("FREQ=MONTHLY;BYDAY=MO,FR;BYSETPOS=-1;BYHOUR=21;BYMINUTE=0")).toBe(false);
    expect(isMovable("FREQ=MONTHLY;BYMONTHDAY=3;BYHOUR=21;BYMINUTE=0")).toBe(true);
    expect(() => shiftRule("FREQ=HOURLY;INTERVAL=4", 15)).toThrow(/no single time/);
    expect(() => shiftRule("FREQ=MONTHLY;BYMONTHDAY=3;BYHOUR=1;BYMINUTE=0", -90)).toThrow(/past midnight/);
  });
});
