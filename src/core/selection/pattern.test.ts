import fc from "fast-check";
import { describe, expect, it } from "vitest";
import { namePattern, pathPattern, patternProblem } from "./pattern";

describe("a pattern of names", () => {
  it.each<[string, readonly string[], readonly string[]]>([
    ["*.odt", ["a.odt", ".odt", "ä.odt"], ["a.odt.bak", "a.ODT"]],
    ["[!x]", ["a", "!"], ["x", ""]],
    ["[^x]y", ["ay"], ["xy"]],
    ["[a-c]?", ["ab", "c😀"], ["d1", "a"]],
    ["[]]", ["]"], ["["]],
    ["[abc", ["[abc"], ["a"]],
    ["*.{ods,pdf}", ["a.ods", "a.pdf"], ["a.odt", "a.{ods,pdf}"]],
    ["{a,b{c,d}}x", ["ax", "bcx", "bdx"], ["bx"]],
    ["part{8..11}", ["part8", "part10"], ["part12", "part{8..11}"]],
    ["{plain}", ["{plain}"], ["plain"]],
    ["a\\*b", ["a*b"], ["axb"]],
    ["!(x)", ["!(x)"], ["y"]],
    ["**", ["", "anything"], []],
    ["a\\", ["a\\"], ["a"]],
  ])("%s", (pattern, yes, no) => {
    const test = namePattern(pattern);
    for (const text of yes) expect([pattern, text, test(text)]).toEqual([pattern, text, true]);
    for (const text of no) expect([pattern, text, test(text)]).toEqual([pattern, text, false]);
  });

  it("may take small and capital letters for the same", () => {
    expect(namePattern("*-LT-[0-9]*", { ignoreCase: true })("quill-lt-04")).toBe(true);
  });

  it("takes what a regular expression takes that says the same", () => {
    const part = fc.constantFrom("a", "b", ".", "*", "?", "[ab]", "[!a]", "{a,bb}", "**", "\\*");
    const expression: Record<string, string> = {
      ".": "\\.",
      "*": ".*",
      "**": ".*",
      "?": ".",
      "[!a]": "[^a]",
      "{a,bb}": "(a|bb)",
      "\\*": "\\*",
    };
    fc.assert(
      fc.property(
        fc.array(part, { maxLength: 7 }),
        fc.array(fc.constantFrom("a", "b", ".", "*"), { maxLength: 9 }),
        (pattern, text) => {
          const slow = new RegExp(`^${pattern.map((one) => expression[one] ?? one).join("")}$`, "s");
          expect(namePattern(pattern.join(""))(text.join(""))).toBe(slow.test(text.join("")));
        },
      ),
      { numRuns: 3000 },
    );
  });

  it("ends soon whatever it is held against", () => {
    const many = "*a".repeat(300);
    expect(namePattern(`${many}b`)("a".repeat(20_000))).toBe(false);
    expect(namePattern(`${many}*`)("a".repeat(20_000))).toBe(true);
    expect(pathPattern(`${"**/a/".repeat(200)}b`)("/a".repeat(3000))).toBe(false);
  });

  it("is refused, in words, with too many alternatives", () => {
    expect(patternProblem("{a,b}".repeat(12))).toMatch(/1000 alternatives/);
    expect(patternProblem("{1..999999999}")).toMatch(/1000 alternatives/);
    expect(patternProblem("*".repeat(1001))).toMatch(/1000 characters/);
    expect(patternProblem("")).not.toBeNull();
    expect(patternProblem("*.{a,b}")).toBeNull();
  });
});

describe("a pattern of paths", () => {
  it.each<[string, readonly string[], readonly string[]]>([
    ["/var/cache", ["/var/cache", "/var/cache/"], ["/srv/var/cache", "/var/cache/x"]],
    ["/var/*", ["/var/x"], ["/var", "/var/x/y"]],
    ["**/tmp/*.bin", ["/tmp/a.bin", "/srv/tmp/a.bin"], ["/srv/tmp/x/a.bin"]],
    ["/a/**/z", ["/a/z", "/a/b/c/z"], ["/z", "/a/b"]],
    ["/a/**", ["/a", "/a/b/c"], ["/ab"]],
    ["/", ["/"], ["/a"]],
    ["/{a,b/c}/x", ["/a/x", "/b/c/x"], ["/b/x"]],
  ])("%s", (pattern, yes, no) => {
    const test = pathPattern(pattern);
    for (const text of yes) expect([pattern, text, test(text)]).toEqual([pattern, text, true]);
    for (const text of no) expect([pattern, text, test(text)]).toEqual([pattern, text, false]);
  });

  it("takes what a regular expression takes that says the same", () => {
    const part = fc.constantFrom("a", "b", "*", "**", "?");
    fc.assert(
      fc.property(
        fc.array(part, { minLength: 1, maxLength: 6 }),
        fc.array(fc.constantFrom("a", "b", "ab"), { maxLength: 7 }),
        (pattern, path) => {
          const slow = new RegExp(
            `^${pattern.map((one) => (one === "**" ? "(/[^/]+)*" : `/${one === "*" ? "[^/]*" : one === "?" ? "[^/]" : one}`)).join("")}$`,
          );
          expect(pathPattern(`/${pattern.join("/")}`)(`/${path.join("/")}`)).toBe(
            slow.test(path.length ? `/${path.join("/")}` : ""),
          );
        },
      ),
      { numRuns: 3000 },
    );
  });
});
