import fc from "fast-check";
import { describe, expect, it } from "vitest";
import { decideRetention, type Retention } from "./decide";

const now = new Date("2026-11-24T07:30:00Z");
const daysAgo = (days: number) => ({ id: String(days), moment: new Date(now.getTime() - days * 86_400_000) });
const kept = (days: number[], rule: Retention) =>
  decideRetention(days.map(daysAgo), rule, now)
    .filter((decision) => decision.keep)
    .map((decision) => Number(decision.id));

describe("which points stay", () => {
  it("keeps the last N, whatever their age", () => {
    expect(kept([400, 2, 90, 1], { kind: "last", count: 3 })).toEqual([1, 2, 90]);
  });
  it("keeps what is younger than N days", () => {
    expect(kept([40, 2, 30, 1], { kind: "days", days: 30 })).toEqual([1, 2, 30]);
  });
  it("keeps all for ever", () => {
    expect(kept([4000, 1], { kind: "for-ever" })).toEqual([1, 4000]);
  });
  it("never lets the newest go, however old", () => {
    expect(kept([500, 400], { kind: "days", days: 7 })).toEqual([400]);
  });

  const rules: fc.Arbitrary<Retention> = fc.oneof(
    fc.record({ kind: fc.constant("last" as const), count: fc.integer({ min: 1, max: 50 }) }),
    fc.record({ kind: fc.constant("days" as const), days: fc.integer({ min: 1, max: 400 }) }),
    fc.constant({ kind: "for-ever" as const }),
  );
  it("decides once for each point, gives a reason, and keeps nothing older than what it drops", () => {
    fc.assert(
      fc.property(fc.uniqueArray(fc.nat(2000), { maxLength: 80 }), rules, (days, rule) => {
        const decisions = decideRetention(days.map(daysAgo), rule, now);
        expect(decisions.map((decision) => Number(decision.id)).sort()).toEqual([...days].sort());
        expect(decisions.every((decision) => decision.reason.length > 0)).toBe(true);
        const ages = (keep: boolean) => decisions.filter((d) => d.keep === keep).map((d) => Number(d.id));
        if (ages(false).length) expect(Math.max(...ages(true))).toBeLessThan(Math.min(...ages(false)));
      }),
    );
  });
});
