import { describe, expect, it } from "vitest";
import { type Machine, medianOf, roundsThatCount, sideBySide } from "./beside";

/** A machine whose clock goes on with the work that is done, and whose host takes what it is told to. */
function machine() {
  let [now, stolen] = [0, 0];
  const it: Machine = { cores: 2, now: () => now, stolen: () => stolen };
  return {
    it,
    work: (seconds: number, taken = 0) => {
      now += seconds;
      stolen += taken;
      return Promise.resolve(seconds);
    },
  };
}

describe("measuring side by side", () => {
  it("gives the middle of the rounds, and the middle of what one takes beside the other in the same round", async () => {
    const { it: host, work } = machine();
    const ours = [10, 30, 8];
    const theirs = [10, 20, 10];
    const found = await sideBySide(
      "it",
      (round) => work(ours[round]!),
      (round) => work(theirs[round]!),
      3,
      host,
    );
    // the best of each would be of two rounds, and say 0.8
    expect(found).toEqual({ ours: 10, theirs: 10, ratio: 1 });
  });

  it("lets neither be always the first", async () => {
    const { it: host, work } = machine();
    const order: string[] = [];
    const turn = (who: string) => () => {
      order.push(who);
      return work(1);
    };
    await sideBySide("it", turn("ours"), turn("theirs"), 4, host);
    expect(order.join(" ")).toBe("ours theirs theirs ours ours theirs theirs ours");
  });

  it("measures a round again in which others had the machine", async () => {
    const { it: host, work } = machine();
    let rounds = 0;
    const found = await sideBySide(
      "it",
      (round) => {
        rounds += 1;
        return round === 1 ? work(50, 30) : work(9);
      },
      () => work(10),
      3,
      host,
    );
    expect(rounds).toBe(4);
    expect(found).toEqual({ ours: 9, theirs: 10, ratio: 0.9 });
  });

  it("ends where others have the machine always, and counts what there is", async () => {
    const { it: host, work } = machine();
    let rounds = 0;
    const found = await sideBySide(
      "it",
      () => {
        rounds += 1;
        return work(12, 6);
      },
      () => work(10),
      3,
      host,
    );
    expect(rounds).toBe(6);
    expect(found.ratio).toBeCloseTo(1.2);
  });

  it("counts a round of which a fiftieth was taken, and not one of which more was", () => {
    const round = (stolen: number) => ({ ours: 1, theirs: 1, stolen });
    expect(roundsThatCount([round(0), round(0.02), round(0.021)])).toEqual([round(0), round(0.02)]);
    expect(roundsThatCount([round(0.5)])).toEqual([round(0.5)]);
  });

  it("takes the middle value, of two in the middle the longer one", () => {
    expect(medianOf([3, 1, 2])).toBe(2);
    expect(medianOf([4, 1, 2, 3])).toBe(3);
  });
});
