import fc from "fast-check";
import { describe, expect, it } from "vitest";
import { csvLine } from "./csv";

/** A reader of RFC 4180, plainly written. */
function cells(line: string): string[] {
  const found: string[] = [];
  let at = 0;
  for (;;) {
    let cell = "";
    if (line[at] === '"') {
      at += 1;
      for (; ; at += 1) {
        if (line[at] === '"' && line[at + 1] === '"') at += 1;
        else if (line[at] === '"') break;
        cell += line[at];
      }
      at += 1;
    } else while (line[at] !== "," && !line.startsWith("\r\n", at)) cell += line[at++];
    found.push(cell);
    if (line.startsWith("\r\n", at)) return found;
    at += 1;
  }
}

describe("a line of CSV", () => {
  it("is read back as it was, whatever is in it, but for what a spreadsheet would run", () => {
    const text = fc.string({ unit: fc.constantFrom("a", "ü", '"', ",", "\n", "\r", " ", "=", "-", "1") });
    fc.assert(
      fc.property(fc.array(text, { minLength: 1, maxLength: 6 }), (row) => {
        const safe = row.map((cell) => (/^[=+\-@\t\r]/.test(cell) ? `'${cell}` : cell));
        expect(cells(csvLine(row))).toEqual(safe);
      }),
    );
  });

  it.each(["=1+1", "+1", "-1", "@SUM(A1)", "\tx"])("does not let %j run as a formula", (text) => {
    expect(csvLine([text]).replace(/^"/, "")).toMatch(/^'/);
  });

  it("leaves numbers as they are, also below zero, and nothing for nothing", () => {
    expect(csvLine([-3, 0.5, null, "a,b"])).toBe('-3,0.5,,"a,b"\r\n');
  });
});
