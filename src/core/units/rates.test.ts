import fc from "fast-check";
import { expect, test } from "vitest";
import { RATES_MOST, RateHistory } from "./rates";

test("each second has its value", () => {
  const history = new RateHistory();
  for (const bytes of [100, 200, 0]) history.add(bytes, 1);
  expect(history.rates).toEqual({ every: 1, values: [100, 200, 0] });
});

test("what took longer fills as many values as it took", () => {
  const history = new RateHistory();
  history.add(900, 3);
  expect(history.rates.values).toEqual([300, 300, 300]);
  history.add(50, 0.4);
  expect(history.rates.values).toHaveLength(3);
  history.add(50, 0.6);
  expect(history.rates.values).toEqual([300, 300, 300, 100]);
});

test("however long it takes there are few values, and together they tell what passed", () => {
  fc.assert(
    fc.property(fc.array(fc.nat(1_000_000), { minLength: 1, maxLength: 2000 }), (bytes) => {
      const history = new RateHistory();
      for (const one of bytes) history.add(one, 1);
      const { every, values } = history.rates;
      expect(values.length).toBeLessThanOrEqual(RATES_MOST);
      // all but the value that is not whole yet
      const told = values.reduce((sum, rate) => sum + rate * every, 0);
      const passed = bytes.slice(0, values.length * every).reduce((sum, one) => sum + one, 0);
      const most = Math.max(...bytes);
      expect(Math.abs(told - passed)).toBeLessThanOrEqual(most * every + values.length * every);
      expect(values.length * every).toBeGreaterThan(bytes.length - 2 * every);
    }),
  );
});
