import fc from "fast-check";
import { DateTime } from "luxon";
import { describe, expect, it } from "vitest";
import { decideRetention, type Retention, retentionSentence, type Tiers } from "./decide";
import { localDays, PERIODS, type Period, periodOfDay } from "./periods";

const now = new Date("2026-11-24T07:30:00Z");
const daysAgo = (days: number) => ({ id: String(days), moment: new Date(now.getTime() - days * 86_400_000) });
const kept = (days: number[], rule: Retention) =>
  decideRetention(days.map(daysAgo), rule, now)
    .filter((decision) => decision.keep)
    .map((decision) => Number(decision.id));
const tiers = (change: Partial<Tiers>): Retention => ({
  kind: "tiers",
  tiers: { daily: 0, weekly: 0, monthly: 0, quarterly: 0, yearly: 0, ...change },
});

describe("which points stay", () => {
  it("keeps the last N, whatever their age", () => {
    expect(kept([400, 2, 90, 1], { kind: "last", count: 3 })).toEqual([1, 2, 90]);
  });
  it("keeps what is younger than N days", () => {
    expect(kept([40, 2, 30, 1], { kind: "days", days: 30 })).toEqual([1, 2, 30]);
  });
  it("keeps what neither of two limits drops", () => {
    expect(kept([1, 2, 3, 4], { kind: "first-of", count: 3, days: 30 })).toEqual([1, 2, 3]);
    expect(kept([1, 2, 40], { kind: "first-of", count: 3, days: 30 })).toEqual([1, 2]);
  });
  it("keeps all for ever", () => {
    expect(kept([4000, 1], { kind: "for-ever" })).toEqual([1, 4000]);
  });
  it("never lets the newest go, however old", () => {
    expect(kept([500, 400], { kind: "days", days: 7 })).toEqual([400]);
    expect(kept([500, 400], tiers({ yearly: 0 }))).toEqual([400]);
  });
  it("says what a point is kept as", () => {
    const reasons = decideRetention(
      ["2026-11-23T21:30:00Z", "2026-11-22T21:30:00Z", "2026-10-31T21:30:00Z", "2026-10-30T21:30:00Z"].map(
        (text) => ({ id: text.slice(0, 10), moment: new Date(text) }),
      ),
      tiers({ daily: 2, monthly: 3 }),
      now,
      "Europe/London",
    ).map(({ id, keep, reason }) => `${id} ${keep} ${reason}`);
    expect(reasons).toEqual([
      "2026-11-23 true the newest recovery point always stays",
      "2026-11-22 true kept as the daily of 22 November",
      "2026-10-31 true kept as the monthly of October 2026",
      "2026-10-30 false no day, week, month, quarter or year needs it",
    ]);
  });
  it("goes by the client's calendar, not by ours", () => {
    const twoEvenings = ["2026-11-23T10:30:00Z", "2026-11-23T11:30:00Z"].map((text) => ({
      id: text,
      moment: new Date(text),
    }));
    const inZone = (zone: string) =>
      decideRetention(twoEvenings, tiers({ daily: 5 }), now, zone).filter((one) => one.keep).length;
    // 11:00 UTC is midnight there
    expect(inZone("Pacific/Auckland")).toBe(2);
    expect(inZone("UTC")).toBe(1);
  });

  const rules: fc.Arbitrary<Retention> = fc.oneof(
    fc.record({ kind: fc.constant("last" as const), count: fc.integer({ min: 1, max: 50 }) }),
    fc.record({ kind: fc.constant("days" as const), days: fc.integer({ min: 1, max: 400 }) }),
    fc.record({
      kind: fc.constant("first-of" as const),
      count: fc.integer({ min: 1, max: 50 }),
      days: fc.integer({ min: 1, max: 400 }),
    }),
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

  /** The same in plain words and slowly: each tier takes the last point of its last N periods that have any. */
  function reference(moments: readonly Date[], wanted: Tiers, zone: string): Set<number> {
    const sorted = [...moments].map((moment) => moment.getTime()).sort((a, b) => b - a);
    const stays = new Set(sorted.slice(0, 1));
    const format: Record<Period, (at: DateTime) => string> = {
      daily: (at) => at.toFormat("yyyy-MM-dd"),
      weekly: (at) => at.toFormat("kkkk-WW"),
      monthly: (at) => at.toFormat("yyyy-MM"),
      quarterly: (at) => at.toFormat("yyyy-q"),
      yearly: (at) => at.toFormat("yyyy"),
    };
    for (const period of PERIODS) {
      const seen: string[] = [];
      for (const ms of sorted) {
        const name = format[period](DateTime.fromMillis(ms, { zone }));
        if (seen.includes(name)) continue;
        if (seen.length === wanted[period]) break;
        seen.push(name);
        stays.add(ms);
      }
    }
    return stays;
  }
  it("keeps by tiers what a slow reference keeps, in any zone", () => {
    const moments = fc.uniqueArray(fc.integer({ min: 0, max: 2_000_000_000 }), {
      minLength: 1,
      maxLength: 60,
    });
    const wanted = fc.record({
      daily: fc.nat(10),
      weekly: fc.nat(6),
      monthly: fc.nat(6),
      quarterly: fc.nat(4),
      yearly: fc.nat(4),
    });
    const zones = fc.constantFrom(
      "UTC",
      "Europe/London",
      "Pacific/Auckland",
      "Atlantic/Azores",
      "Asia/Kathmandu",
    );
    fc.assert(
      fc.property(moments, wanted, zones, (seconds, want, zone) => {
        const dates = seconds.map((second) => new Date(second * 1000));
        const decisions = decideRetention(
          dates.map((moment) => ({ id: String(moment.getTime()), moment })),
          { kind: "tiers", tiers: want },
          now,
          zone,
        );
        const stays = decisions.filter((one) => one.keep).map((one) => Number(one.id));
        expect(new Set(stays)).toEqual(reference(dates, want, zone));
      }),
      { numRuns: 150 },
    );
  });
});

describe("files that were deleted at the source", () => {
  const points = [0, 1, 2, 3].map((age) => ({
    id: String(age),
    moment: new Date(now.getTime() - age * 86_400_000),
    lastCopies: [null, 2, 0, null][age]!,
  }));
  it("keep the point that holds their last copy, and one that nobody has looked through", () => {
    const decided = decideRetention(points, { kind: "last", count: 1, deleted: "last-copy" }, now);
    expect(decided.map(({ keep, reason }) => [keep, reason])).toEqual([
      [true, "the newest recovery point always stays"],
      [true, "holds the last copy of 2 deleted files"],
      [false, "older than the last 1"],
      [true, "not yet checked for files deleted after it"],
    ]);
  });
  it("go with their points where nothing else is said", () => {
    for (const deleted of [undefined, "with-points"] as const)
      expect(
        decideRetention(points, { kind: "last", count: 1, deleted }, now).filter(({ keep }) => keep),
      ).toHaveLength(1);
  });
});

describe("days by the clock of a zone", () => {
  it("are those of the calendar around every clock change", () => {
    for (const zone of ["Europe/London", "America/Sao_Paulo", "Australia/Lord_Howe", "Africa/Casablanca"]) {
      const dayOf = localDays(zone);
      for (let ms = Date.UTC(2018, 0, 1); ms < Date.UTC(2019, 0, 1); ms += 1_800_000) {
        const local = DateTime.fromMillis(ms, { zone });
        const day = Math.round(Date.UTC(local.year, local.month - 1, local.day) / 86_400_000);
        expect(dayOf(new Date(ms)), `${zone} ${local}`).toBe(day);
      }
    }
  });
  it("fall into weeks that begin on Monday", () => {
    const monday = Math.floor(Date.UTC(2026, 10, 23) / 86_400_000);
    expect(periodOfDay(monday - 1, "weekly")).toBe(periodOfDay(monday, "weekly") - 1);
    expect(periodOfDay(monday + 6, "weekly")).toBe(periodOfDay(monday, "weekly"));
  });
});

describe("the rule as a sentence", () => {
  it.each([
    [{ kind: "last", count: 1 } as Retention, "Only the newest recovery point"],
    [
      { kind: "first-of", count: 30, days: 90 } as Retention,
      "The last 30 recovery points, none older than 90 days",
    ],
    [
      tiers({ daily: 14, weekly: 8, monthly: 12 }),
      "The last point of each of 14 days, 8 weeks and 12 months",
    ],
    [tiers({ yearly: 1 }), "The last point of each of 1 year"],
  ])("%j", (rule, sentence) => {
    expect(retentionSentence(rule)).toBe(sentence);
  });
});
