import fc from "fast-check";
import { describe, expect, it } from "vitest";
import { contrast, luminance } from "./contrast";

describe("the contrast of two colours", () => {
  it("is what WCAG 2.2 gives for known pairs", () => {
    expect(contrast("#000000", "#ffffff")).toBe(21);
    expect(contrast("#ffffff", "#ffffff")).toBe(1);
    // the darkest grey that fails on white, and the lightest that passes
    expect(contrast("#777777", "#ffffff")).toBeCloseTo(4.48, 2);
    expect(contrast("#767676", "#ffffff")).toBeCloseTo(4.54, 2);
    expect(luminance("#ff0000")).toBeCloseTo(0.2126, 6);
  });

  it("is the same both ways, and between 1 and 21", () => {
    const colour = fc
      .integer({ min: 0, max: 0xffffff })
      .map((value) => `#${value.toString(16).padStart(6, "0")}`);
    fc.assert(
      fc.property(colour, colour, (one, other) => {
        const ratio = contrast(one, other);
        expect(ratio).toBe(contrast(other, one));
        expect(ratio).toBeGreaterThanOrEqual(1);
        expect(ratio).toBeLessThanOrEqual(21);
      }),
    );
  });
});
