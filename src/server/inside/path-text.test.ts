import fc from "fast-check";
import { describe, expect, it } from "vitest";
import { CodedError } from "@/core/codes";
import { invalid, Problem, problemFrom } from "../base/problem";
import { pathFromText, pathToText } from "./path-text";

describe("paths of any bytes in JSON", () => {
  it("come back as they were", () => {
    const name = fc
      .array(fc.integer({ min: 1, max: 255 }), { minLength: 1, maxLength: 12 })
      .map((codes) => String.fromCharCode(...codes).replaceAll("/", "x"))
      .filter((text) => text !== "." && text !== "..");
    fc.assert(
      fc.property(fc.array(name, { minLength: 1, maxLength: 4 }), (names) => {
        const path = `/${names.join("/")}`;
        expect(pathFromText(pathToText(path))).toBe(path);
      }),
    );
  });
  it("stay legible where they are text", () => {
    expect(pathToText(Buffer.from("/Grüße").toString("latin1"))).toBe("/Grüße");
    expect(pathToText("/f\xff")).toMatch(/^~/);
  });
  it.each([
    "home",
    "",
    "/a/../b",
    "/a/./b",
    "/a\0",
    `~${Buffer.from("x").toString("base64url")}`,
    `~${Buffer.from("/a/../b").toString("base64url")}`,
  ])("%j is refused at its field", (text) =>
    expect(() => pathFromText(text, "items.0.path")).toThrow(Problem),
  );
});

describe("errors as answers", () => {
  it("carry code, remedy and fields", () => {
    expect(JSON.parse(JSON.stringify(invalid("name", "Enter a name.")))).toMatchObject({
      status: 422,
      code: "request.invalid",
      errors: [{ field: "name", message: "Enter a name." }],
    });
    expect(problemFrom(new CodedError("depot.quota", "Harbour"))).toMatchObject({
      code: "depot.quota",
      status: 507,
    });
  });
  it("tell nothing of what nobody foresaw", () => {
    const problem = JSON.stringify(problemFrom(new Error("password=hunter2 at /srv/secret")));
    expect(problem).not.toContain("hunter2");
    expect(problem).toContain("internal.error");
  });
});
