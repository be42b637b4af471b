import { expect, it } from "vitest";
import { dealRuns } from "@/operate/bench/deal";

/** The same with ten thousand is a part of `bin/bench`: deal. */
it("due runs dealt to four runners are all done, and none twice, when two of them are killed", async () => {
  const dealt = await dealRuns(240, 4, 2, true);
  expect(dealt).toMatchObject({ runs: 240, lost: 0, twice: 0 });
  // something was in the hands of those that died
  expect(dealt.takenUp).toBeGreaterThan(0);
});
