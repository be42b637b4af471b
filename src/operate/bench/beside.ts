import { readFileSync } from "node:fs";
import { cpus } from "node:os";
import { percentile, rounds, say } from "./ground";

/** What was measured in rounds, of which each had one turn of ours and one of theirs. */
export interface Beside {
  /** Medians, seconds. */
  readonly ours: number;
  readonly theirs: number;
  /** The median of what ours took beside theirs in the same round. */
  readonly ratio: number;
}

/** What one round took, seconds, and the share of the processors' time that this machine was not given meanwhile. */
export interface Round {
  readonly ours: number;
  readonly theirs: number;
  readonly stolen: number;
}

/** Where a virtual machine was kept waiting for longer, a round tells of whoever else runs on its host. */
const MOST_STOLEN = 0.02;
const CLOCK_TICKS = 100;

/** What tells of the machine that it is measured on. */
export interface Machine {
  readonly cores: number;
  /** Seconds since whenever. */
  now(): number;
  /** Seconds since its start for which its processors would have worked, and others had them (proc(5), steal). */
  stolen(): number;
}

const thisMachine: Machine = {
  cores: cpus().length,
  now: () => performance.now() / 1000,
  stolen: () =>
    Number(readFileSync("/proc/stat", "utf8").split("\n")[0]!.trim().split(/\s+/)[8] ?? 0) / CLOCK_TICKS,
};

export const medianOf = (values: readonly number[]): number => percentile(values, 0.5);

const isQuiet = ({ stolen }: Round): boolean => stolen <= MOST_STOLEN;

/** The rounds that count: those in which the machine was ours, or all where it never was. */
export function roundsThatCount(all: readonly Round[]): readonly Round[] {
  const quiet = all.filter(isQuiet);
  return quiet.length ? quiet : all;
}

/**
 * Measures something of ours beside something of others, by turns, since the machine's speed changes from minute to minute.
 * A round in which others had the machine is said, does not count, and is measured again, so many times at most.
 *
 * @param ours does it once, and gives the seconds that it took; so does `theirs`
 */
export async function sideBySide(
  what: string,
  ours: (round: number) => Promise<number>,
  theirs: (round: number) => Promise<number>,
  wanted = rounds,
  machine = thisMachine,
): Promise<Beside> {
  const all: Round[] = [];
  let quiet = 0;
  for (let round = 0; quiet < wanted && round < 2 * wanted; round += 1) {
    let [our, their] = [0, 0];
    const [before, began] = [machine.stolen(), machine.now()];
    const turns = [
      async () => {
        their = await theirs(round);
      },
      async () => {
        our = await ours(round);
      },
    ];
    // neither is always the first
    for (const turn of round % 2 ? turns : turns.toReversed()) await turn();
    const given = machine.cores * (machine.now() - began);
    const one = { ours: our, theirs: their, stolen: (machine.stolen() - before) / given };
    all.push(one);
    const counts = isQuiet(one);
    if (counts) quiet += 1;
    say(
      `  ${what}: ${our.toFixed(2)} s beside ${their.toFixed(2)} s (${(our / their).toFixed(2)})${counts ? "" : `, does not count: others had ${(100 * one.stolen).toFixed(0)} % of the processors`}`,
    );
  }
  const counting = roundsThatCount(all);
  if (quiet === 0) say(`  ${what}: others had the machine in every round; all count`);
  return {
    ours: medianOf(counting.map((round) => round.ours)),
    theirs: medianOf(counting.map((round) => round.theirs)),
    ratio: medianOf(counting.map((round) => round.ours / round.theirs)),
  };
}
