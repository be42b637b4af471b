import fc from "fast-check";
import { describe, expect, it } from "vitest";
import { decideRetention, type Retention, type Tiers } from "./decide";
import { keepsLess } from "./shorter";

const now = new Date("2026-11-25T18:00:00Z");
const tiers = (change: Partial<Tiers>): Retention => ({
  kind: "tiers",
  tiers: { daily: 0, weekly: 0, monthly: 0, quarterly: 0, yearly: 0, ...change },
});
const days = (count: number): Retention => ({ kind: "days", days: count });
const last = (count: number): Retention => ({ kind: "last", count });

describe("whether a rule keeps less than another", () => {
  it.each<[Retention, Retention, boolean]>([
    [days(30), days(7), true],
    [days(7), days(30), false],
    [{ kind: "for-ever" }, days(3000), true],
    [{ kind: "for-ever" }, days(15 * 365), true],
    [{ kind: "for-ever" }, tiers({ yearly: 4000 }), true],
    [days(30), { kind: "for-ever" }, false],
    [last(30), last(29), true],
    [days(30), last(126), true],
    [last(30), days(3650), true],
    [days(30), { kind: "first-of", count: 4000, days: 30 }, true],
    [{ kind: "first-of", count: 10, days: 30 }, days(30), false],
    [{ kind: "first-of", count: 10, days: 30 }, last(10), false],
    [days(30), tiers({ daily: 30 }), true],
    [tiers({ yearly: 30 }), tiers({ yearly: 14 }), true],
    [tiers({ yearly: 30 }), tiers({ yearly: 30, daily: 1 }), false],
    [tiers({ daily: 14, weekly: 8, monthly: 12 }), tiers({ daily: 14, weekly: 8, monthly: 24 }), false],
    [tiers({ daily: 14, weekly: 8, monthly: 12 }), tiers({ daily: 14, weekly: 4, monthly: 12 }), true],
    [tiers({ weekly: 4 }), tiers({ daily: 28 }), false],
    [tiers({ weekly: 4 }), tiers({ daily: 27 }), true],
    [tiers({ monthly: 2 }), tiers({ weekly: 50 }), true],
    [tiers({ yearly: 2 }), tiers({ monthly: 24 }), false],
    [last(1), days(1), false],
    [{ kind: "days", days: 30, deleted: "last-copy" }, days(90), true],
    [days(30), { kind: "days", days: 30, deleted: "last-copy" }, false],
    [{ kind: "days", days: 30, deleted: "last-copy" }, { kind: "for-ever" }, false],
  ])("%j to %j: %s", (before, after, less) => {
    expect(keepsLess(before, after)).toBe(less);
  });

  const count = fc.oneof(fc.integer({ min: 1, max: 6 }), fc.integer({ min: 1, max: 400 }));
  const tier = fc.oneof(fc.constant(0), fc.nat(4), fc.nat(100));
  const rule: fc.Arbitrary<Retention> = fc.oneof(
    count.map(last),
    count.map(days),
    fc.record({ kind: fc.constant("first-of" as const), count, days: count }),
    fc
      .record({ daily: tier, weekly: tier, monthly: tier, quarterly: tier, yearly: tier })
      .map((all): Retention => ({ kind: "tiers", tiers: all })),
    fc.constant<Retention>({ kind: "for-ever" }),
  );
  /** Histories of all kinds: many a day, one a year, bursts after long pauses. */
  const history = fc
    .array(
      fc.tuple(fc.constantFrom(0.02, 1, 6, 24, 24 * 7, 24 * 31, 24 * 365), fc.integer({ min: 1, max: 12 })),
      {
        minLength: 1,
        maxLength: 12,
      },
    )
    .map((parts) => {
      let hours = 0.5;
      return parts.flatMap(([step, times]) =>
        Array.from({ length: times }, () => {
          hours += step;
          return { id: String(hours), moment: new Date(now.getTime() - hours * 3_600_000) };
        }),
      );
    });
  const keptBy = (points: { id: string; moment: Date }[], one: Retention, zone: string) =>
    new Set(decideRetention(points, one, now, zone).flatMap(({ id, keep }) => (keep ? [id] : [])));

  it("is so whenever any history loses a point by it, sooner than before", () => {
    fc.assert(
      fc.property(
        rule,
        rule,
        history,
        fc.constantFrom("UTC", "Pacific/Auckland"),
        (before, after, points, zone) => {
          if (keepsLess(before, after)) return;
          const stays = keptBy(points, after, zone);
          for (const id of keptBy(points, before, zone)) expect(stays.has(id)).toBe(true);
        },
      ),
      { numRuns: 4000 },
    );
  });
  it("is never so of the same, nor of a rule with more of everything", () => {
    fc.assert(
      fc.property(rule, fc.nat(20), (one, more) => {
        expect(keepsLess(one, one)).toBe(false);
        const wider: Retention =
          one.kind === "last"
            ? last(one.count + more)
            : one.kind === "days"
              ? days(one.days + more)
              : one.kind === "first-of"
                ? { kind: "first-of", count: one.count + more, days: one.days + more }
                : one.kind === "tiers"
                  ? {
                      kind: "tiers",
                      tiers: Object.fromEntries(
                        Object.entries(one.tiers).map(([period, size]) => [period, size + more]),
                      ) as unknown as Tiers,
                    }
                  : one;
        expect(keepsLess(one, wider)).toBe(false);
      }),
    );
  });
});
