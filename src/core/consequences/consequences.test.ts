import fc from "fast-check";
import { describe, expect, it } from "vitest";
import { type Clauses, readClauses } from "../policy/clauses";
import { decideRetention, type Retention } from "../retention/decide";
import { rulesAt } from "../schedule/rule";
import { consequencesOf, spaceAfter, type Wish } from "./consequences";
import type { DepotFacts, SourceFacts } from "./facts";
import { keptCount } from "./kept-count";

const now = new Date("2026-11-24T07:30:00Z");
const DAY_MS = 86_400_000;
const GIB = 1024 ** 3;

const source = (more: Partial<SourceFacts> = {}): SourceFacts => ({
  id: "a",
  name: "quill-lt-04 files",
  bytes: 20 * GIB,
  points: 31,
  oldest: new Date(now.getTime() - 30 * DAY_MS),
  storedBytes: 12 * GIB,
  addedMean: 0.1 * GIB,
  addedSpread: 0.02 * GIB,
  addedWeekend: null,
  addedMonday: null,
  grownPerDay: 0.05 * GIB,
  usualMinutes: 12,
  longMinutes: 40,
  readRate: 50e6,
  workFolder: { fileSystem: "ext4", onSystemVolume: true, free: 50e9 },
  ...more,
});
const depot = (id: string, more: Partial<DepotFacts> = {}): DepotFacts => ({
  id,
  name: `Depot ${id}`,
  region: "north harbour",
  house: `disk ${id}`,
  onSystemVolume: false,
  quotaBytes: 500 * GIB,
  usedBytes: 12 * GIB,
  ...more,
});
const FIRST = "6f1c2a4e-93f5-4c0b-8a43-6e8f7a2d5b10";
const SECOND = "7f1c2a4e-93f5-4c0b-8a43-6e8f7a2d5b10";
const clauses: Clauses = readClauses({
  what: { folders: ["/home"] },
  when: { schedules: [{ rule: rulesAt("21:30") }], targetHours: 26 },
  howLong: { kind: "days", days: 90 },
  where: { depotId: FIRST, beside: [SECOND] },
});
const wish = (more: Partial<Wish> = {}): Wish => ({
  clauses,
  client: { zone: "Europe/Lisbon", region: "north harbour", keyConfirmed: true },
  providerZone: "Europe/London",
  sources: [source()],
  depots: [depot(FIRST), depot(SECOND)],
  now,
  ...more,
});
const adviceOf = (more: Partial<Wish>) => consequencesOf(wish(more)).advice.map(({ key }) => key);
const withWhen = (when: object): Partial<Wish> => ({
  clauses: readClauses({ ...clauses, when: { targetHours: 26, ...when } }),
});

describe("what follows from clauses", () => {
  it("names the next ten runs and sees where two clocks differ", () => {
    const far = consequencesOf(
      wish({ client: { zone: "Pacific/Auckland", region: "north harbour", keyConfirmed: true } }),
    );
    expect(far.next).toHaveLength(10);
    expect(far.next[0]!.at.toISOString()).toBe("2026-11-24T08:30:00.000Z");
    expect(far.zonesDiffer).toBe(true);
    expect(consequencesOf(wish()).zonesDiffer).toBe(false);
    expect(consequencesOf(wish()).advice).toEqual([]);
  });

  it("tells space from the source's own growth: what lasts grows on, what passes stays as many times as there are points", () => {
    const { space, spaceNow } = consequencesOf(wish());
    expect(spaceNow).toBe(12 * GIB);
    const at = (days: number) => space!.find((one) => one.days === days)!.mid / GIB;
    // 0.05 a day lasts; the other 0.05 of a run stays for 90 days of points
    expect(at(30)).toBeCloseTo(12 + 30 * 0.05 + 29 * 0.05, 0);
    expect(at(365)).toBeCloseTo(12 + 365 * 0.05 + 59 * 0.05, 0);
    for (const { low, mid, high } of space!) expect(low < mid && mid < high).toBe(true);
  });

  it("tells nothing of space where nothing is known", () => {
    expect(consequencesOf(wish({ sources: [source({ points: 0, oldest: null })] })).space).toBeNull();
    expect(spaceAfter([], clauses.howLong, 1, 30, now)).toBeNull();
  });

  it("shows the points of a year that stay, with their reasons", () => {
    const { points, pointsAfterYear } = consequencesOf(wish());
    const kept = points.filter((point) => point.keep);
    expect(Math.abs(kept.length - pointsAfterYear)).toBeLessThanOrEqual(2);
    expect(points.length).toBeGreaterThan(360);
    expect(kept[5]!.reason).toMatch(/90 days/);
  });

  it("puts the load into the hours of the client's clock", () => {
    const { load } = consequencesOf(wish({ sources: [source(), source({ id: "b" })] }));
    expect(load[21]!.runs).toBeCloseTo(2, 1);
    expect(load[21]!.minutes).toBeCloseTo(24, 0);
    expect(load.reduce((sum, hour) => sum + hour.runs, 0)).toBeCloseTo(2, 1);
  });

  it("answers within a keystroke for two thousand sources", () => {
    const sources = Array.from({ length: 2000 }, (_, i) => source({ id: String(i) }));
    const counted = consequencesOf(wish({ sources }));
    expect(counted.sources).toBe(2000);
    expect(counted.space![0]!.mid).toBeGreaterThan(2000 * 12 * GIB);
  });
});

describe("advice", () => {
  it.each<[string, Partial<Wish>]>([
    ["nothing-runs", withWhen({ schedules: [] })],
    ["target-not-met", withWhen({ schedules: [{ rule: rulesAt("21:30", [1]) }] })],
    ["runs-too-close", withWhen({ schedules: [{ rule: "FREQ=MINUTELY;INTERVAL=5" }] })],
    [
      "window-too-short",
      withWhen({ schedules: [{ rule: rulesAt("21:30") }], windows: [{ from: "21:00", to: "22:00" }] }),
    ],
    [
      "weekends-left-out",
      {
        ...withWhen({ schedules: [{ rule: rulesAt("21:30", [1, 2, 3, 4, 5]) }], targetHours: 80 }),
        sources: [source({ addedMonday: 0.4 * GIB })],
      },
    ],
    ["one-point", { clauses: { ...clauses, howLong: { kind: "last", count: 1 } } }],
    [
      "dropped-too-soon",
      {
        clauses: {
          ...readClauses({
            ...clauses,
            when: { targetHours: 2000, schedules: [{ rule: rulesAt("21:30", [1]) }] },
          }),
          howLong: { kind: "days", days: 3 },
        },
      },
    ],
    ["one-place", { clauses: { ...clauses, where: { ...clauses.where, beside: [] } } }],
    ["same-house", { depots: [depot(FIRST), depot(SECOND, { house: `disk ${FIRST}` })] }],
    [
      "working-folder",
      { sources: [source({ workFolder: { fileSystem: "nfs4", onSystemVolume: false, free: 9e12 } })] },
    ],
    [
      "working-folder",
      { sources: [source({ workFolder: { fileSystem: "ext4", onSystemVolume: true, free: 5e8 } })] },
    ],
    [
      "working-folder",
      { sources: [source({ workFolder: { fileSystem: "fuse.sshfs", onSystemVolume: false, free: 9e12 } })] },
    ],
    ["system-volume", { depots: [depot(FIRST, { onSystemVolume: true }), depot(SECOND)] }],
    ["region-differs", { depots: [depot(FIRST, { region: "south sea" }), depot(SECOND)] }],
    ["over-quota", { depots: [depot(FIRST, { quotaBytes: 15 * GIB }), depot(SECOND)] }],
    ["key-not-confirmed", { client: { zone: "UTC", region: "north harbour", keyConfirmed: false } }],
  ])("warns of %s, and not otherwise", (key, change) => {
    expect(adviceOf(change)).toContain(key);
    expect(adviceOf({})).not.toContain(key);
  });

  it("says when the quota is passed, and in which depot", () => {
    const { advice } = consequencesOf(
      wish({ depots: [depot(FIRST, { quotaBytes: 18 * GIB }), depot(SECOND)] }),
    );
    expect(advice[0]!.text).toMatch(/^Within 90 days this passes the quota in Depot 6f1c/);
  });
});

describe("how many points a retention keeps", () => {
  const tiers = fc.record({
    daily: fc.nat(30),
    weekly: fc.nat(20),
    monthly: fc.nat(24),
    quarterly: fc.nat(8),
    yearly: fc.nat(5),
  });
  const retention: fc.Arbitrary<Retention> = fc.oneof(
    fc.record({ kind: fc.constant("last" as const), count: fc.integer({ min: 1, max: 400 }) }),
    fc.record({ kind: fc.constant("days" as const), days: fc.integer({ min: 1, max: 400 }) }),
    fc.record({
      kind: fc.constant("first-of" as const),
      count: fc.integer({ min: 1, max: 400 }),
      days: fc.integer({ min: 1, max: 400 }),
    }),
    fc.record({
      kind: fc.constant("tiers" as const),
      tiers: tiers.filter((one) => Object.values(one).some((count) => count > 0)),
    }),
    fc.constant({ kind: "for-ever" as const }),
  );
  it("is near to what the decisions keep, for daily runs", () => {
    fc.assert(
      fc.property(retention, fc.integer({ min: 1, max: 500 }), (rule, days) => {
        const points = Array.from({ length: days }, (_, i) => ({
          id: String(i),
          moment: new Date(now.getTime() - i * DAY_MS),
        }));
        const kept = decideRetention(points, rule, now).filter((one) => one.keep).length;
        expect(Math.abs(keptCount(rule, days, 1) - kept)).toBeLessThanOrEqual(5 + kept * 0.12);
      }),
      { numRuns: 150 },
    );
  });
});
