import fc from "fast-check";
import { expect, it } from "vitest";
import { within } from "./within";

const name = fc.constantFrom("a", "ab", "b", "home", "home2", "..x");
const path = fc.array(name, { maxLength: 4 }).map((names) => `/${names.join("/")}`);

it("a folder holds itself and what lies below it, and nothing whose name only begins alike", () => {
  fc.assert(
    fc.property(path, path, (folder, other) => {
      const parts = (text: string) => text.split("/").filter(Boolean);
      const plainly = parts(folder).every((part, i) => parts(other)[i] === part);
      expect(within(folder, other)).toBe(plainly);
    }),
  );
  expect(within("/home", "/home2/letter")).toBe(false);
});
