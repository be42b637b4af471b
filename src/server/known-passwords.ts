import type { ZxcvbnFactory } from "@zxcvbn-ts/core";
import { invalid } from "./problem";

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

/** Refuses a password that is among the first to be guessed. `known` is what others know of the person. */
export async function refuseKnownPassword(
  password: string,
  known: readonly string[],
  field = "password",
): Promise<void> {
  guesser ??= readLists();
  const words = known.flatMap((text) => [text, ...text.split(/[\s@.]+/)]).filter((word) => word.length > 2);
  const { score } = (await guesser).check(password.slice(0, WEIGHED), ["deep keep", ...words]);
  if (score < ENOUGH)
    throw invalid(
      field,
      "This is among the first that are guessed. Take a few words in a row that have nothing to do with one another.",
    );
}
