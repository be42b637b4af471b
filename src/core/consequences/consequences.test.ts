import fc from "fast-check";
import { describe, expect, it } from "vitest";
import { type Clauses, readClauses } from "../policy/clauses";
import { decideRetention, type Retention } from "../retention/decide";
import { rulesAt } from "../schedule/rule";
import { nextRuns } from "../schedule/schedule";
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
  what: { files: { folders: ["/home"] } },
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

describe("what follows against the simulation of a year", () => {
  const rule = fc.oneof(
    fc
      .tuple(fc.nat(23), fc.nat(59))
      .map(([hour, minute]) =>
        rulesAt(`${String(hour).padStart(2, "0")}:${String(minute).padStart(2, "0")}`),
      ),
    fc.constantFrom(
      "FREQ=HOURLY;INTERVAL=6",
      "FREQ=HOURLY;INTERVAL=4;BYDAY=MO,TU,WE,TH,FR;BYHOUR=8,9,10,11,12,13,14,15,16",
      "FREQ=WEEKLY;BYDAY=SA,SU;BYHOUR=3;BYMINUTE=0",
      "FREQ=WEEKLY;INTERVAL=3;BYDAY=WE;BYHOUR=3;BYMINUTE=0",
      "FREQ=MONTHLY;BYMONTHDAY=-1;BYHOUR=23;BYMINUTE=0",
      "FREQ=MONTHLY;INTERVAL=3;BYDAY=1SU;BYHOUR=1;BYMINUTE=0",
      "FREQ=YEARLY;BYMONTH=6;BYMONTHDAY=30;BYHOUR=4;BYMINUTE=0",
    ),
  );
  const count = fc.integer({ min: 1, max: 60 });
  const tier = fc.nat(20);
  const howLong: fc.Arbitrary<Retention> = fc.oneof(
    count.map((n): Retention => ({ kind: "last", count: n })),
    fc.integer({ min: 1, max: 500 }).map((days): Retention => ({ kind: "days", days })),
    fc.record({ kind: fc.constant("first-of" as const), count, days: fc.integer({ min: 1, max: 300 }) }),
    fc
      .record({ daily: tier, weekly: tier, monthly: tier, quarterly: tier, yearly: tier })
      .filter((all) => Object.values(all).some(Boolean))
      .map((tiers): Retention => ({ kind: "tiers", tiers })),
    fc.constant<Retention>({ kind: "for-ever" }),
  );

  it("counts the points that stand after a year, runs being made one by one and points dropped after each", () => {
    fc.assert(
      fc.property(
        fc.array(rule, { minLength: 1, maxLength: 2 }),
        howLong,
        fc.constantFrom("UTC", "Europe/Lisbon", "Pacific/Auckland"),
        (rules, retention, zone) => {
          const changed = readClauses({
            ...clauses,
            when: { schedules: rules.map((one) => ({ rule: one })), targetHours: 26 },
            howLong: retention,
          });
          const { pointsAfterYear, next } = consequencesOf(
            wish({ clauses: changed, client: { zone, region: "north harbour", keyConfirmed: true } }),
          );
          const until = new Date(now.getTime() + 365 * DAY_MS);
          let standing: { id: string; moment: Date }[] = [];
          let made = 0;
          // as the runner does it: the next run after each, then retention
          for (const at of stepped(changed.when, zone, until)) {
            if (made < next.length) expect(next[made]!.at).toEqual(at);
            made += 1;
            standing.push({ id: String(made), moment: at });
            const decided = decideRetention(standing, retention, at, zone);
            const gone = new Set(decided.filter((one) => !one.keep).map((one) => one.id));
            standing = standing.filter((point) => !gone.has(point.id));
          }
          const end = decideRetention(standing, retention, until, zone).filter((one) => one.keep);
          expect(pointsAfterYear).toBe(end.length);
        },
      ),
      { numRuns: 60 },
    );
  });

  /** Due moments one after another, each counted from the one before, as the runner asks for them. */
  function* stepped(when: Clauses["when"], zone: string, until: Date): Generator<Date> {
    const anchors = when.schedules.map(() => now);
    let after = now;
    for (;;) {
      const dues = when.schedules.map(
        (schedule, i) =>
          nextRuns({ ...when, schedules: [schedule] }, zone, after, 1, { anchor: anchors[i]!, until })[0]?.at,
      );
      const at = dues.filter((due) => due !== undefined).sort((a, b) => a.getTime() - b.getTime())[0];
      if (!at) return;
      dues.forEach((due, i) => {
        if (due?.getTime() === at.getTime()) anchors[i] = at;
      });
      after = at;
      yield at;
    }
  }

  it.each<[string, number]>([
    ["FREQ=YEARLY;BYMONTH=6;BYMONTHDAY=30;BYHOUR=4;BYMINUTE=0", 1 / 365],
    ["FREQ=MONTHLY;INTERVAL=3;BYMONTHDAY=1;BYHOUR=1;BYMINUTE=0", 4 / 365],
    ["FREQ=MONTHLY;BYMONTHDAY=1;BYHOUR=1;BYMINUTE=0", 12 / 365],
  ])("takes rare runs for what they are: %s", (text, perDay) => {
    const { load } = consequencesOf(wish(withWhen({ schedules: [{ rule: text }] })));
    const runs = load.reduce((sum, hour) => sum + hour.runs, 0);
    expect(Math.abs(runs / perDay - 1)).toBeLessThan(0.1);
  });

  it("counts for rare runs every point as a period of its own", () => {
    const tiers: Retention = {
      kind: "tiers",
      tiers: { daily: 7, weekly: 4, monthly: 0, quarterly: 0, yearly: 0 },
    };
    // one run a month for three years: seven days that have any
    expect(Math.round(keptCount(tiers, 3 * 365, 12 / 365))).toBe(7);
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
