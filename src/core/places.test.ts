import fc from "fast-check";
import { describe, expect, it } from "vitest";
import { bandOf, intoBands } from "./depth";
import { baseOf, isView, slugOf, VIEW_LETTERS, VIEWS } from "./places";

describe("addresses", () => {
  it("name a scope shortly", () => {
    expect(slugOf("Vossel & Daughters Bakery")).toBe("vossel-daughters-bakery");
    expect(baseOf("quillmere", "north-clinic", "quill-lt-04 files")).toBe(
      "/c/quillmere/north-clinic/quill-lt-04-files",
    );
    expect(baseOf("quillmere")).toBe("/c/quillmere");
  });
  it("are always usable, whatever the name", () => {
    fc.assert(
      fc.property(fc.string({ maxLength: 200 }), (name) => {
        expect(slugOf(name)).toMatch(/^([a-z0-9]([a-z0-9-]*[a-z0-9])?)?$/);
      }),
    );
  });
  it("lead to each view by a letter of its own", () => {
    expect(new Set(VIEWS.map((view) => VIEW_LETTERS[view])).size).toBe(VIEWS.length);
    expect(isView("watch")).toBe(true);
    expect(isView("home")).toBe(false);
  });
});

describe("Depth", () => {
  const now = new Date("2026-11-25T07:30:00Z");
  const ago = (days: number) => ({ moment: new Date(now.getTime() - days * 86_400_000), days });
  it("puts every point into one band, newest first", () => {
    fc.assert(
      fc.property(fc.array(fc.integer({ min: 0, max: 4000 })), (days) => {
        const bands = intoBands(days.map(ago), now);
        const all = bands.flatMap((band) => band.points.map((point) => point.days));
        expect(all).toEqual([...days].sort((a, b) => a - b));
        expect(bands.every((band) => band.points.length > 0)).toBe(true);
      }),
    );
  });
  it.each([
    [0.5, "today"],
    [3, "week"],
    [20, "month"],
    [60, "quarter"],
    [200, "year"],
    [900, "years"],
  ] as const)("%d days ago is %s", (days, band) => {
    expect(bandOf(ago(days).moment, now)).toBe(band);
  });
});
