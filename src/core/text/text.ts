import { structuredPatch } from "diff";

/** Telling text from other content, and comparing two texts line by line. */

/** Characters that no text has: C0 and C1 controls but tab, line feed, form feed, carriage return and escape. */
const NO_TEXT = /[\u0000-\u0008\u000b\u000e-\u001a\u001c-\u001f\u007f-\u009f\ufffe\uffff]/;

/**
 * Bytes as text: UTF-8, UTF-16 with its mark, or Windows-1252 where every byte is a letter of it; null for what is none.
 * Bytes that were cut off may end within a character: `cut` leaves such an end out.
 */
export function textOf(bytes: Uint8Array, cut = false): { text: string; encoding: string } | null {
  const encodings =
    bytes[0] === 0xff && bytes[1] === 0xfe
      ? ["utf-16le"]
      : bytes[0] === 0xfe && bytes[1] === 0xff
        ? ["utf-16be"]
        : ["utf-8", "windows-1252"];
  for (const encoding of encodings) {
    try {
      const text = new TextDecoder(encoding, { fatal: true }).decode(bytes, { stream: cut });
      if (!NO_TEXT.test(text)) return { text, encoding };
    } catch {
      // not in this one
    }
  }
  return null;
}

/** One line of a comparison. Line numbers begin with 1; null on the side that does not have it. */
export interface ComparedLine {
  readonly kind: "same" | "added" | "removed";
  readonly before: number | null;
  readonly after: number | null;
  readonly text: string;
}

const AROUND = 3;
/** How long comparing may take: texts that differ everywhere are slow, and say no more. */
const LONGEST_MS = 2000;

/**
 * What differs between two texts: the places with three lines around each, in order. Empty where they are equal; null
 * where they differ so much that it would take too long to say.
 */
export function compareTexts(before: string, after: string): ComparedLine[][] | null {
  const patch = structuredPatch("", "", before, after, "", "", { context: AROUND, timeout: LONGEST_MS });
  if (!patch) return null;
  return patch.hunks.map((hunk) => {
    let [old, now] = [hunk.oldStart, hunk.newStart];
    const lines: ComparedLine[] = [];
    for (const line of hunk.lines) {
      const text = line.slice(1);
      if (line.startsWith("-")) {
        lines.push({ kind: "removed", before: old, after: null, text });
        old += 1;
      } else if (line.startsWith("+")) {
        lines.push({ kind: "added", before: null, after: now, text });
        now += 1;
      } else if (line.startsWith(" ")) {
        lines.push({ kind: "same", before: old, after: now, text });
        old += 1;
        now += 1;
      }
      // what is left says that a last line has no end: no line of either text
    }
    return lines;
  });
}

/** Pictures that every browser shows and that are nothing but pictures, told by their first bytes. */
export function imageTypeOf(bytes: Uint8Array): string | null {
  const begins = (...wanted: number[]) => wanted.every((byte, i) => bytes[i] === byte);
  const letters = (at: number, text: string) =>
    [...text].every((char, i) => bytes[at + i] === char.charCodeAt(0));
  if (begins(0x89, 0x50, 0x4e, 0x47, 0x0d, 0x0a, 0x1a, 0x0a)) return "image/png";
  if (begins(0xff, 0xd8, 0xff)) return "image/jpeg";
  if (letters(0, "GIF87a") || letters(0, "GIF89a")) return "image/gif";
  if (letters(0, "RIFF") && letters(8, "WEBP")) return "image/webp";
  if (letters(0, "BM") && bytes.length > 26 && bytes[6] === 0 && bytes[7] === 0) return "image/bmp";
  return null;
}
