import { describe, expect, it } from "vitest";
import { findBurst } from "./burst";

const usual = [0.01, 0.02, 0.015, 0.03, 0.01];

describe("something is eating your files", () => {
  it("is seen when many files changed and became dense", () => {
    expect(findBurst({ files: 400, changed: 152, denser: 143, removed: 0, renamed: 0 }, usual)).toEqual({
      changedShare: 0.38,
      denserShare: 143 / 152,
    });
  });
  it("is seen when files come back under new endings", () => {
    expect(findBurst({ files: 400, changed: 0, denser: 180, removed: 200, renamed: 200 }, usual)).toEqual({
      changedShare: 0.5,
      denserShare: 0.9,
    });
  });
  it.each([
    ["a software update", { files: 400, changed: 152, denser: 20, removed: 10, renamed: 0 }],
    ["a photo import", { files: 900, changed: 3, denser: 0, removed: 0, renamed: 0 }],
    ["a big move of folders", { files: 400, changed: 0, denser: 0, removed: 380, renamed: 0 }],
    [
      "letters that were saved in another format",
      { files: 400, changed: 0, denser: 12, removed: 200, renamed: 200 },
    ],
    ["a busy day", { files: 400, changed: 24, denser: 20, removed: 0, renamed: 0 }],
    ["a handful of files", { files: 12, changed: 9, denser: 9, removed: 0, renamed: 0 }],
  ])("is not taken for %s", (_name, figures) => expect(findBurst(figures, usual)).toBeNull());
  it("says nothing about a source it does not know yet, or one that always changes much", () => {
    const figures = { files: 400, changed: 152, denser: 143, removed: 0, renamed: 0 };
    expect(findBurst(figures, [0.01])).toBeNull();
    expect(findBurst(figures, [0.3, 0.4, 0.35])).toBeNull();
  });
});
