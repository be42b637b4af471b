import { expect, it } from "vitest";
import { STATES } from "../protection/state";
import { STATE_HEIGHT, statesSentence } from "./states";

it.each([
  [[], "not protected yet"],
  [[null, null], "not protected yet"],
  [["kept"], "1 day kept"],
  [["kept", "slipping", "kept", null], "2 days kept, 1 slipping"],
  [["exposed", "exposed"], "2 days exposed"],
  [["paused", "never kept"], "1 day never kept, 1 paused"],
] as const)("says %j as a sentence", (states, sentence) => {
  expect(statesSentence(states)).toBe(sentence);
});

it("draws what is worse higher, so that the drawing tells without its colours", () => {
  const { paused, kept, slipping, exposed } = STATE_HEIGHT;
  expect([paused, kept, slipping, exposed]).toEqual([paused, kept, slipping, exposed].sort());
  expect(Object.keys(STATE_HEIGHT).sort()).toEqual([...STATES].sort());
});
