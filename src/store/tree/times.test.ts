import fc from "fast-check";
import { expect, it } from "vitest";
import { joinTime, splitTime } from "./times";

const BILLION = 1_000_000_000n;

/** Times of all sizes: where seconds begin and end, where 64 bits end, and beyond. */
const anyTime = fc.oneof(
  fc.bigInt({ min: -(2n ** 63n), max: 2n ** 63n - 1n }),
  fc.bigInt({ min: -(2n ** 75n), max: 2n ** 75n }),
  fc
    .tuple(fc.bigInt({ min: -10_000_000_000n, max: 10_000_000_000n }), fc.integer({ min: -2, max: 2 }))
    .map(([seconds, more]) => seconds * BILLION + BigInt(more)),
  fc
    .tuple(fc.constantFrom(-(2n ** 63n), 2n ** 63n, 0n, 2n ** 32n, 9_223_372_035n * BILLION), fc.nat(9))
    .map(([end, more]) => end + BigInt(more) - 5n),
);

it("splits a time at the second before it, and joins it again", () => {
  fc.assert(
    fc.property(anyTime, (time) => {
      const [seconds, nanoseconds] = splitTime(time);
      expect(nanoseconds).toBeGreaterThanOrEqual(0);
      expect(nanoseconds).toBeLessThan(1e9);
      expect(BigInt(seconds) * BILLION + BigInt(nanoseconds)).toBe(time);
      expect(joinTime(seconds, nanoseconds)).toBe(time);
    }),
    { numRuns: 5000 },
  );
});
