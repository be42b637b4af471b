import fc from "fast-check";
import { expect, test } from "vitest";
import { drillPicks, drillPoint, drillSentence } from "./drill";

test("a small point is restored whole, and of a large one about as much as a drill may take", () => {
  expect(drillPicks(1000, 1000)).toMatchObject({ whole: true });
  expect(drillPicks(1000, 1000).takes(0.999, 1000)).toBe(true);
  const sizes = Array.from({ length: 20_000 }, (_, i) => (i * 7919) % 1000);
  const all = sizes.reduce((sum, size) => sum + size, 0);
  const picks = drillPicks(all, all / 10);
  expect(picks.whole).toBe(false);
  let seed = 1;
  const chance = () => {
    seed = (seed * 48_271) % 2_147_483_647;
    return seed / 2_147_483_647;
  };
  const taken = sizes.filter((size) => picks.takes(chance(), size)).reduce((sum, size) => sum + size, 0);
  expect(taken / all).toBeGreaterThan(0.09);
  expect(taken / all).toBeLessThan(0.11);
});

test("a file that alone is more than the most is left", () => {
  expect(drillPicks(5000, 1000).takes(0, 1001)).toBe(false);
  expect(drillPicks(5000, 1000).takes(0, 1000)).toBe(true);
});

test("the newest point and an older one take turns, and every older one can be hit", () => {
  fc.assert(
    fc.property(
      fc.integer({ min: 1, max: 50 }),
      fc.nat(20),
      fc.double({ min: 0, max: 0.999999, noNaN: true }),
      (count, before, chance) => {
        const points = Array.from({ length: count }, (_, i) => i);
        const point = drillPoint(points, before, chance);
        if (before % 2 === 0 || count === 1) expect(point).toBe(0);
        else expect(point).toBe(1 + Math.floor(chance * (count - 1)));
        expect(points).toContain(point);
      },
    ),
  );
  expect(() => drillPoint([], 0, 0)).toThrow(RangeError);
});

test("a sentence says how much, of what, how long, and what was found", () => {
  expect(drillSentence({ files: 2, bytes: 4096, ofFiles: 2, differing: 0, milliseconds: 300 })).toBe(
    "2 files, 4.00 KiB, all of the point, in under a second; every byte as it was",
  );
  expect(
    drillSentence({
      files: 10,
      bytes: 1e9,
      ofFiles: 1200,
      whole: false,
      differing: 1,
      milliseconds: 125_000,
    }),
  ).toContain("by chance from 1,200 files, in 2 min; 1 item differs from the recovery point");
});
