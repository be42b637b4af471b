import { expect, it } from "vitest";
import type { Window } from "./window";
import { openSpan, spansOf } from "./windows";

const window = (from: string, to: string, days: Window["days"] = []): Window => ({ days, from, to });
const at = (text: string) => new Date(`2026-11-24T${text}:00Z`);

it("joins windows that meet: a run is not cut where one ends and the next begins", () => {
  const windows = [window("08:00", "12:00"), window("12:00", "16:00")];
  expect(openSpan(windows, "UTC", at("09:00"))).toEqual({ opens: at("08:00"), closes: at("16:00") });
  expect(spansOf(windows, "UTC", at("00:00"), at("23:00"))).toEqual([
    { opens: at("08:00"), closes: at("16:00") },
  ]);
});
it("keeps windows apart that a minute separates", () => {
  const windows = [window("08:00", "12:00"), window("12:01", "16:00")];
  expect(openSpan(windows, "UTC", at("09:00"))?.closes).toEqual(at("12:00"));
});
it("joins a window that lies in another one without making that shorter", () => {
  expect(openSpan([window("08:00", "20:00"), window("09:00", "10:00")], "UTC", at("09:30"))?.closes).toEqual(
    at("20:00"),
  );
});
it("closes at its end, which does not belong to it", () => {
  const windows = [window("08:00", "12:00")];
  expect(openSpan(windows, "UTC", at("08:00"))).not.toBeNull();
  expect(openSpan(windows, "UTC", at("12:00"))).toBeNull();
});
