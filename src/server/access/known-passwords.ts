import type { ZxcvbnFactory } from "@zxcvbn-ts/core";
import { invalid } from "../base/problem";

/**
 * Passwords that are guessed first: those that leaked most often, words of a dictionary, rows of keys, and what is known of
 * the person. The lists are large, so they are read when the first password is chosen.
 */
let guesser: Promise<ZxcvbnFactory> | null = null;

async function readLists(): Promise<ZxcvbnFactory> {
  const [{ ZxcvbnFactory }, common, english] = await Promise.all([
    import("@zxcvbn-ts/core"),
    import("@zxcvbn-ts/language-common"),
    import("@zxcvbn-ts/language-en"),
  ]);
  return new ZxcvbnFactory({
    dictionary: { ...common.dictionary, ...english.dictionary },
    graphs: common.adjacencyGraphs,
  });
}

/** From here on, of 4, a password stands guessing. */
const ENOUGH = 3;
/** What comes behind cannot make it weaker, and weighing takes longer for each character. */
const WEIGHED = 64;

/** What stands between two words of a password, if anything. */
const BETWEEN = ["", " ", "-", ".", "_"];
const MOST_WORDS = 12;

/** Words that others know of somebody, and each two of them in a row: as two words by themselves they would count as rare. */
function guessedFirst(known: readonly string[]): string[] {
  const words = [...new Set(known.flatMap((text) => text.toLowerCase().split(/[^\p{L}\p{N}]+/u)))]
    .filter((word) => word.length > 2)
    .slice(0, MOST_WORDS);
  const pairs = words.flatMap((one) =>
    words.flatMap((other) => (one === other ? [] : BETWEEN.map((between) => `${one}${between}${other}`))),
  );
  return [...known, ...words, ...pairs];
}

/** Refuses a password that is among the first to be guessed. `known` is what others know of the person. */
export async function refuseKnownPassword(
  password: string,
  known: readonly string[],
  field = "password",
): Promise<void> {
  guesser ??= readLists();
  const { score } = (await guesser).check(password.slice(0, WEIGHED), guessedFirst(["deep keep", ...known]));
  if (score < ENOUGH) throw invalid(field, "This password is easy to guess. Use several unrelated words.");
}
