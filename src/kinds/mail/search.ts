import { parseBytes } from "@/core/units/bytes";

/** What messages are searched for; everything that is given must fit. */
export interface MessageSearch {
  readonly from: readonly string[];
  readonly to: readonly string[];
  readonly subject: readonly string[];
  /** Words that a message has in its subject, sender, recipients, or text. */
  readonly words: readonly string[];
  readonly attachment: boolean;
  /** Milliseconds since 1970: received not before, and before. */
  readonly after: number | null;
  readonly before: number | null;
  readonly larger: number | null;
  readonly smaller: number | null;
}

const TERM = /(?:([a-z]+):)?(?:"([^"]*)"|(\S+))/giu;

/**
 * Reads a line such as `from:maren subject:"boiler inspection" has:attachment before:2026-11-20 larger:2MB keys`.
 * Days are those of `dayStart`, a function of the zone of whoever asks: the first millisecond of a day `YYYY-MM-DD`.
 * Returns what is wrong, in a sentence, for a term that says nothing.
 */
export function parseMessageSearch(
  line: string,
  dayStart: (day: string) => number | null,
): MessageSearch | { readonly problem: string } {
  const found = {
    from: [] as string[],
    to: [] as string[],
    subject: [] as string[],
    words: [] as string[],
    attachment: false,
    after: null as number | null,
    before: null as number | null,
    larger: null as number | null,
    smaller: null as number | null,
  };
  for (const [whole, key, quoted, plain] of line.matchAll(TERM)) {
    const value = (quoted ?? plain ?? "").normalize("NFC").toLowerCase();
    const name = key?.toLowerCase();
    if (value === "") continue;
    if (name === "from" || name === "to" || name === "subject") found[name].push(value);
    else if (name === "has") {
      if (value !== "attachment") return { problem: `“${whole}” is not known. Only has:attachment is.` };
      found.attachment = true;
    } else if (name === "after" || name === "before") {
      const at = dayStart(value);
      if (at === null) return { problem: `“${whole}” has no valid day. Enter a day as YYYY-MM-DD.` };
      found[name] = at;
    } else if (name === "larger" || name === "smaller") {
      const bytes = parseBytes(value);
      if (bytes === null) return { problem: `“${whole}” has no valid size. Enter a size such as 2MB.` };
      found[name] = bytes;
    } else found.words.push((key ? whole.replaceAll('"', "") : value).normalize("NFC").toLowerCase());
  }
  return found;
}

const hasAll = (texts: readonly string[], wanted: readonly string[]): boolean => {
  const all = texts.map((text) => text.normalize("NFC").toLowerCase());
  return wanted.every((word) => all.some((text) => text.includes(word)));
};

/** Whether what a listing knows of a message fits, before anything of it is read. */
export const fitsListing = (search: MessageSearch, receivedMs: number, size: number): boolean =>
  (search.after === null || receivedMs >= search.after) &&
  (search.before === null || receivedMs < search.before) &&
  (search.larger === null || size >= search.larger) &&
  (search.smaller === null || size < search.smaller);

/** Whether its head fits; words may yet be in its text. */
export const fitsHead = (
  search: MessageSearch,
  head: {
    readonly from: string;
    readonly to: readonly string[];
    readonly cc: readonly string[];
    readonly subject: string;
  },
): boolean =>
  hasAll([head.from], search.from) &&
  hasAll([...head.to, ...head.cc], search.to) &&
  hasAll([head.subject], search.subject);

/** The words that are in none of some texts. */
export const missingWords = (search: MessageSearch, texts: readonly string[]): string[] =>
  search.words.filter((word) => !hasAll(texts, [word]));
