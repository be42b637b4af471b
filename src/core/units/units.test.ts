import fc from "fast-check";
import { describe, expect, it } from "vitest";
import { formatBytes, parseBytes } from "./bytes";
import { counted, formatDuration, formatRelative } from "./duration";

describe("sizes", () => {
  it.each([
    [0, "0 B"],
    [1023, "1023 B"],
    [1024, "1.00 KiB"],
    [1024 ** 2 - 1, "1.00 MiB"],
    [412 * 1024 ** 3, "412 GiB"],
    [-41 * 1024, "−41.0 KiB"],
  ])("%d bytes reads %s", (bytes, text) => expect(formatBytes(bytes)).toBe(text));

  it.each([
    ["20 GiB", 20 * 1024 ** 3],
    ["500MB", 500e6],
    ["1,5t", 1.5 * 1024 ** 4],
    ["77", 77],
  ])("%s is understood", (text, bytes) => expect(parseBytes(text)).toBe(bytes));

  it.each(["", "much", "12 parsecs", "-4 GiB"])("%j is no size", (text) =>
    expect(parseBytes(text)).toBeNull(),
  );

  it("reads back what it wrote to within its three figures", () => {
    fc.assert(
      fc.property(fc.integer({ min: 0, max: 2 ** 50 }), (bytes) => {
        expect(Math.abs(parseBytes(formatBytes(bytes))! - bytes)).toBeLessThanOrEqual(bytes * 0.006);
      }),
    );
  });
});

describe("times", () => {
  it("chooses units that fit", () => {
    expect(formatDuration(48_000)).toBe("48 s");
    expect(formatDuration(130 * 60_000)).toBe("2 h 10 min");
    expect(formatDuration(216 * 3_600_000)).toBe("9 days");
    const now = new Date("2026-11-24T07:31:00Z");
    expect(formatRelative(new Date("2026-11-24T05:21:00Z"), now)).toBe("2 h 10 min ago");
    expect(formatRelative(new Date("2026-11-24T08:11:00Z"), now)).toBe("in 40 min");
  });
  it("counts with the right noun", () => {
    expect(counted(1, "file")).toBe("1 file");
    expect(counted(1204, "recovery point")).toBe("1,204 recovery points");
  });
});
