import fc from "fast-check";
import { describe, expect, it } from "vitest";
import type { Retention } from "./decide";
import { keepsLess } from "./shorter";

const now = new Date("2026-11-25T18:00:00Z");
const tiers = (daily: number, weekly = 0, monthly = 0): Retention => ({
  kind: "tiers",
  tiers: { daily, weekly, monthly, quarterly: 0, yearly: 0 },
});

describe("whether a clause keeps less than another", () => {
  it.each<[Retention, Retention, boolean]>([
    [{ kind: "days", days: 30 }, { kind: "days", days: 7 }, true],
    [{ kind: "days", days: 7 }, { kind: "days", days: 30 }, false],
    [{ kind: "for-ever" }, { kind: "days", days: 3000 }, true],
    [{ kind: "days", days: 30 }, { kind: "for-ever" }, false],
    [{ kind: "last", count: 30 }, { kind: "last", count: 29 }, true],
    [{ kind: "days", days: 30 }, { kind: "first-of", count: 4000, days: 30 }, false],
    [{ kind: "days", days: 30 }, tiers(30), true],
    [tiers(14, 8, 12), tiers(14, 8, 24), false],
    [tiers(14, 8, 12), tiers(14, 4, 12), true],
    [{ kind: "days", days: 30, deleted: "last-copy" }, { kind: "days", days: 90 }, true],
    [{ kind: "days", days: 30 }, { kind: "days", days: 30, deleted: "last-copy" }, false],
    [{ kind: "days", days: 30, deleted: "last-copy" }, { kind: "for-ever" }, false],
  ])("%j to %j: %s", (before, after, less) => {
    expect(keepsLess(before, after, now)).toBe(less);
  });

  it("never of the same, and never both ways round for days and counts", () => {
    const clause = fc.oneof(
      fc.integer({ min: 1, max: 2000 }).map((days): Retention => ({ kind: "days", days })),
      fc.integer({ min: 1, max: 2000 }).map((count): Retention => ({ kind: "last", count })),
    );
    fc.assert(
      fc.property(clause, clause, (one, two) => {
        expect(keepsLess(one, one, now)).toBe(false);
        if (one.kind === two.kind) expect(keepsLess(one, two, now) && keepsLess(two, one, now)).toBe(false);
      }),
      { numRuns: 60 },
    );
  });
});
