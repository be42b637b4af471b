import { expect, it } from "vitest";
import type { Decision } from "@/core/retention/decide";
import type { Point } from "@/db/points/points";
import { keptTogether, whyWords, withReasons } from "./kept";

const day = (number: number) => new Date(Date.UTC(2026, 10, number, 21, 30));
const points = [26, 25, 24, 23, 20].map(
  (number) => ({ id: Buffer.from([number]), moment: day(number) }) as Point,
);
const decisions = new Map<string, Decision>(
  (
    [
      [26, true, "the newest recovery point always stays"],
      [25, true, "younger than 90 days"],
      [24, true, "younger than 90 days"],
      // 23 was dropped, and nothing is decided about it
      [20, false, "older than 90 days"],
    ] as const
  ).map(([number, keep, reason]) => {
    const id = Buffer.from([number]).toString("hex");
    return [id, { id, keep, reason }];
  }),
);

it("puts points with one reason together, and leaves out what was dropped", () => {
  expect(keptTogether(points, decisions)).toEqual([
    { why: "the newest recovery point always stays", points: 1, newest: day(26), oldest: day(26) },
    { why: "younger than 90 days", points: 2, newest: day(25), oldest: day(24) },
    { why: "older than 90 days; it is dropped by the next run", points: 1, newest: day(20), oldest: day(20) },
  ]);
  expect(keptTogether([], decisions)).toEqual([]);
});

it("keeps what the rules would drop for a hold, for a lock up to its last moment, and where no rules decide", () => {
  const dropped: Decision = { id: "p", keep: false, reason: "older than 90 days" };
  const now = day(20);
  const decide = (
    other: Partial<Parameters<typeof withReasons>[2]>,
    byRule: Decision | undefined = dropped,
  ) => withReasons("p", byRule, { hold: null, lockedUntil: null, idle: null, ...other }, now, "UTC");
  expect(decide({})).toBe(dropped);
  expect(decide({ lockedUntil: now })).toBe(dropped);
  expect(decide({ lockedUntil: new Date(now.getTime() + 1) })).toMatchObject({
    keep: true,
    reason: expect.stringMatching(/^locked until/),
  });
  expect(decide({ hold: "an audit", lockedUntil: day(25) })).toMatchObject({
    keep: true,
    reason: "held: an audit",
  });
  expect(
    withReasons("p", undefined, { hold: null, lockedUntil: null, idle: "paused" }, now, "UTC").reason,
  ).toBe("paused");
  const kept: Decision = { ...dropped, keep: true, reason: "the newest" };
  expect(decide({ hold: "an audit" }, kept)).toBe(kept);
});

it("has no words for a point about which nothing is decided", () => {
  expect(whyWords(undefined)).toBeNull();
});
