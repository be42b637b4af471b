import fc from "fast-check";
import { describe, expect, it } from "vitest";
import { ownPath } from "./own-path";

const origin = "https://keep.example";

describe("the path to go to after signing in", () => {
  it("is a path of this console, with its query", () => {
    expect(ownPath("/c/quillmere/sources?state=exposed#top", origin)).toBe(
      "/c/quillmere/sources?state=exposed#top",
    );
  });
  it.each([
    null,
    "",
    "https://elsewhere.example/",
    "//elsewhere.example",
    "/\\elsewhere.example",
    "/\t/elsewhere.example",
    "/\n/elsewhere.example",
    "\t//elsewhere.example",
    "/./" + "/elsewhere.example",
    "javascript:alert(1)",
  ])("is never another host: %j", (address) => {
    expect(ownPath(address, origin)).toBe("/");
  });
  it("stays here whatever the address is", () => {
    const part = fc.constantFrom(
      "/",
      "\\",
      "\t",
      "\n",
      "\r",
      "//",
      ".",
      "..",
      "@",
      ":",
      "x.example",
      "%2f",
      "%09",
      "?",
      "#",
    );
    fc.assert(
      fc.property(fc.array(part, { maxLength: 8 }), (parts) => {
        expect(new URL(ownPath(`/${parts.join("")}`, origin), origin).origin).toBe(origin);
      }),
    );
  });
});
