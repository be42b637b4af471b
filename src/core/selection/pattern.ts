/**
 * Shell patterns for names and paths: `*` (any characters but `/`), `?` (one of them), `[abc]`, `[a-z]`, `[!a]` or `[^a]`,
 * `{one,two}`, `{1..9}`, `**` as a whole part of a path (any number of folders), `\` before a character that means itself.
 * Whatever else is a character. Matching takes time proportional to pattern times text, whatever they are.
 */
export interface PatternOptions {
  /** Whether small and capital letters are the same. */
  readonly ignoreCase?: boolean;
}

export type PatternTest = (text: string) => boolean;

/** So many alternatives are made of one pattern at most. */
const MOST_ALTERNATIVES = 1000;
const MOST_CHARACTERS = 1000;

/** What is wrong with a pattern, as a sentence; null for a good one. */
export function patternProblem(pattern: string): string | null {
  if (pattern === "") return "A pattern has at least one character.";
  if (pattern.length > MOST_CHARACTERS) return `A pattern has at most ${MOST_CHARACTERS} characters.`;
  return alternativesOf(pattern).length > MOST_ALTERNATIVES
    ? `A pattern has at most ${MOST_ALTERNATIVES} alternatives.`
    : null;
}

/** A test of a single name, in which a slash is an ordinary character. */
export function namePattern(pattern: string, options: PatternOptions = {}): PatternTest {
  const tests = alternativesOf(pattern)
    .slice(0, MOST_ALTERNATIVES)
    .map((one) => partTest(one, options));
  return tests.length === 1 ? tests[0]! : (text) => tests.some((test) => test(text));
}

/** A test of a path, part by part. Slashes at its ends do not count. */
export function pathPattern(pattern: string, options: PatternOptions = {}): PatternTest {
  const tests = alternativesOf(pattern)
    .slice(0, MOST_ALTERNATIVES)
    .map((one) =>
      one
        .split("/")
        .filter(Boolean)
        .map((part) => (part === "**" ? MANY : partTest(part, options))),
    );
  return (path) => {
    const parts = path.split("/").filter(Boolean);
    return tests.some((wanted) => itemsFit(wanted, parts));
  };
}

/** Stands in a pattern for any number of what it is made of: `*` for characters, `**` for folders. */
const MANY = Symbol("many");
type Item = typeof MANY | ((one: string) => boolean);

/** Items of a pattern against characters, or parts of a path. Only the last `MANY` can be worth trying again. */
function itemsFit(items: readonly Item[], text: readonly string[]): boolean {
  let [at, place] = [0, 0];
  let [again, from] = [-1, 0];
  while (at < text.length) {
    const item = items[place];
    if (item === MANY) {
      again = place;
      from = at;
      place += 1;
    } else if (item?.(text[at]!)) {
      at += 1;
      place += 1;
    } else if (again >= 0) {
      from += 1;
      at = from;
      place = again + 1;
    } else return false;
  }
  while (items[place] === MANY) place += 1;
  return place === items.length;
}

function partTest(pattern: string, { ignoreCase = false }: PatternOptions): PatternTest {
  const fold = ignoreCase ? (text: string) => text.toLowerCase() : (text: string) => text;
  // most patterns are plain names or endings
  if (!/[*?[\]\\]/.test(pattern)) {
    const plain = fold(pattern);
    return (text) => fold(text) === plain;
  }
  const ending = /^\*+([^*?[\]\\]*)$/.exec(pattern)?.[1];
  if (ending !== undefined) {
    const plain = fold(ending);
    return (text) => fold(text).endsWith(plain);
  }
  const items = itemsOf([...fold(pattern)]);
  return (text) => itemsFit(items, [...fold(text)]);
}

function itemsOf(pattern: readonly string[]): Item[] {
  const items: Item[] = [];
  for (let at = 0; at < pattern.length; at += 1) {
    const char = pattern[at]!;
    if (char === "*") {
      if (items.at(-1) !== MANY) items.push(MANY);
    } else if (char === "?") items.push(() => true);
    else if (char === "[") {
      const set = setOf(pattern, at);
      if (set) {
        items.push(set.test);
        at = set.end;
      } else items.push((one) => one === "[");
    } else {
      // a backslash at the end means itself
      const escaped = char === "\\" && at + 1 < pattern.length;
      if (escaped) at += 1;
      const plain = pattern[at]!;
      items.push((one) => one === plain);
    }
  }
  return items;
}

/** The set that begins at a bracket; null where it is never closed. A `]` right after the beginning is one of the set. */
function setOf(
  pattern: readonly string[],
  start: number,
): { test: (char: string) => boolean; end: number } | null {
  let at = start + 1;
  const not = pattern[at] === "!" || pattern[at] === "^";
  if (not) at += 1;
  const ranges: (readonly [string, string])[] = [];
  for (let first = true; ; first = false) {
    let char = pattern[at];
    if (char === undefined) return null;
    if (char === "]" && !first) break;
    if (char === "\\" && at + 1 < pattern.length) {
      at += 1;
      char = pattern[at]!;
    }
    if (pattern[at + 1] === "-" && pattern[at + 2] !== undefined && pattern[at + 2] !== "]") {
      ranges.push([char, pattern[at + 2]!]);
      at += 3;
    } else {
      ranges.push([char, char]);
      at += 1;
    }
  }
  const code = (one: string) => one.codePointAt(0)!;
  const within = (char: string) =>
    ranges.some(([from, to]) => code(from) <= code(char) && code(char) <= code(to));
  return { test: (char) => within(char) !== not, end: at };
}

/** The patterns that braces stand for, in order; one more than are allowed where there are too many. */
function alternativesOf(pattern: string): string[] {
  const made: string[] = [];
  const expand = (text: string): void => {
    if (made.length > MOST_ALTERNATIVES) return;
    const found = firstBraces(text);
    if (!found) {
      made.push(text);
      return;
    }
    for (const option of found.options) {
      expand(`${found.before}${option}${found.after}`);
      if (made.length > MOST_ALTERNATIVES) return;
    }
  };
  expand(pattern);
  return made;
}

/** The first braces that hold alternatives: with a comma, or a range of whole numbers. Others are characters. */
function firstBraces(text: string): { before: string; options: string[]; after: string } | null {
  for (let open = 0; open < text.length; open += 1) {
    if (text[open] === "\\") open += 1;
    else if (text[open] === "{") {
      const found = bracesAt(text, open);
      if (found) return found;
    }
  }
  return null;
}

function bracesAt(text: string, open: number): { before: string; options: string[]; after: string } | null {
  let depth = 0;
  let begin = open + 1;
  const options: string[] = [];
  for (let at = open; at < text.length; at += 1) {
    const char = text[at];
    if (char === "\\") at += 1;
    else if (char === "{") depth += 1;
    else if (char === "," && depth === 1) {
      options.push(text.slice(begin, at));
      begin = at + 1;
    } else if (char === "}") {
      depth -= 1;
      if (depth > 0) continue;
      options.push(text.slice(begin, at));
      const parts = { before: text.slice(0, open), after: text.slice(at + 1) };
      if (options.length > 1) return { ...parts, options };
      const range = rangeOf(options[0]!);
      return range ? { ...parts, options: range } : null;
    }
  }
  return null;
}

function rangeOf(text: string): string[] | null {
  const found = /^(-?\d{1,9})\.\.(-?\d{1,9})$/.exec(text);
  if (!found) return null;
  const [from, to] = [Number(found[1]), Number(found[2])];
  const count = Math.min(Math.abs(to - from) + 1, MOST_ALTERNATIVES + 1);
  return Array.from({ length: count }, (_, i) => String(from <= to ? from + i : from - i));
}
