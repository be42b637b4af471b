import { expect, it } from "vitest";
import type { Decision } from "@/core/retention/decide";
import type { Point } from "@/db/points";
import { keptTogether, whyWords } from "./kept";

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
    { why: "older than 90 days; it goes with the next run", points: 1, newest: day(20), oldest: day(20) },
  ]);
  expect(keptTogether([], decisions)).toEqual([]);
});

it("has no words for a point about which nothing is decided", () => {
  expect(whyWords(undefined)).toBeNull();
});
