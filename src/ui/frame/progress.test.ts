import { expect, test } from "vitest";
import { progressText, shareDone } from "./progress";

const MIB = 1024 ** 2;

test("progress is told as far as it is known, and a guess that was wrong is not held to", () => {
  const guess = { items: 10, totalItems: 40, bytes: 25 * MIB, totalBytes: 100 * MIB, rate: 5 * MIB };
  expect([shareDone(guess), progressText(guess)]).toEqual([0.25, "25 % · 5.00 MiB/s · 15 s left"]);
  // the last run had a little less
  expect(shareDone({ ...guess, bytes: 101 * MIB })).toBe(1);
  const more = { ...guess, bytes: 300 * MIB };
  expect([shareDone(more), progressText(more)]).toEqual([null, "10 items, 300 MiB · 5.00 MiB/s"]);
  expect(progressText({})).toBe("0 items, 0 B");
  expect(progressText({ items: 3, totalItems: 12 })).toBe("25 %");
});
