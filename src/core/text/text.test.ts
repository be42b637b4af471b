import fc from "fast-check";
import { describe, expect, it } from "vitest";
import { compareTexts, imageTypeOf, textOf } from "./text";

describe("telling text", () => {
  it("reads UTF-8, UTF-16 with its mark and Windows-1252", () => {
    expect(textOf(Buffer.from("Möwe\n"))).toEqual({ text: "Möwe\n", encoding: "utf-8" });
    expect(textOf(Buffer.from([0xff, 0xfe, 0x4d, 0, 0xf6, 0]))).toEqual({ text: "Mö", encoding: "utf-16le" });
    expect(textOf(Buffer.from([0xfe, 0xff, 0, 0x4d]))).toEqual({ text: "M", encoding: "utf-16be" });
    expect(textOf(Buffer.from([0x4d, 0xf6, 0x77, 0x65]))).toEqual({ text: "Möwe", encoding: "windows-1252" });
  });
  it("takes nothing else for text", () => {
    expect(textOf(Buffer.from([0x4d, 0, 0x77]))).toBeNull();
    expect(textOf(Buffer.from("a\u0007b"))).toBeNull();
    expect(textOf(Buffer.from([0x89, 0x50, 0x4e, 0x47, 0x0d, 0x0a, 0x1a, 0x0a, 0, 0]))).toBeNull();
  });
  it("reads what was cut off within a character", () => {
    const bytes = Buffer.from("Möwe ö");
    expect(textOf(bytes.subarray(0, bytes.length - 1), true)).toEqual({ text: "Möwe ", encoding: "utf-8" });
  });
});

describe("comparing texts", () => {
  it("gives the places that differ, with three lines around and the numbers of both", () => {
    const before = "a\nb\nc\nd\ne\nf\ng\nh\ni\n";
    const hunks = compareTexts(before, before.replace("e\n", "E\nnew\n"))!;
    expect(hunks).toHaveLength(1);
    expect(hunks[0]!.map(({ kind, before: old, after, text }) => [kind, old, after, text])).toEqual([
      ["same", 2, 2, "b"],
      ["same", 3, 3, "c"],
      ["same", 4, 4, "d"],
      ["removed", 5, null, "e"],
      ["added", null, 5, "E"],
      ["added", null, 6, "new"],
      ["same", 6, 7, "f"],
      ["same", 7, 8, "g"],
      ["same", 8, 9, "h"],
    ]);
    expect(compareTexts(before, before)).toEqual([]);
  });
  it("leads from one text to the other, line by line", () => {
    const lines = fc.array(fc.constantFrom("a", "b", "c", "d"), { maxLength: 30 });
    fc.assert(
      fc.property(lines, lines, (old, now) => {
        const text = (all: string[]) => all.map((line) => `${line}\n`).join("");
        const hunks = compareTexts(text(old), text(now))!;
        // apply: from the last place to the first
        const made: string[] = [...old];
        for (const hunk of [...hunks].reverse()) {
          const at = hunk.find((line) => line.before !== null)?.before;
          const gone = hunk.filter((line) => line.kind !== "added");
          const came = hunk.filter((line) => line.kind !== "removed").map((line) => line.text);
          made.splice(at === undefined || at === null ? 0 : at - 1, gone.length, ...came);
        }
        expect(made).toEqual(now);
      }),
    );
  });
});

it("pictures are told by their first bytes, and what only calls itself one is none", () => {
  expect(imageTypeOf(Buffer.from([0xff, 0xd8, 0xff, 0xe0]))).toBe("image/jpeg");
  expect(imageTypeOf(Buffer.from("GIF89a.."))).toBe("image/gif");
  expect(imageTypeOf(Buffer.from("RIFF....WEBP"))).toBe("image/webp");
  expect(imageTypeOf(Buffer.from(`<svg xmlns="http://www.w3.org/2000/svg"/>`))).toBeNull();
});
