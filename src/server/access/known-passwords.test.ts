import { describe, expect, it } from "vitest";
import type { Problem } from "../base/problem";
import { refuseKnownPassword } from "./known-passwords";

const refused = async (password: string, known: readonly string[] = [], field?: string) => {
  try {
    await refuseKnownPassword(password, known, field);
    return null;
  } catch (error) {
    return error as Problem;
  }
};
const HANNE = ["Hanne Vossel", "hanne@vossel.example", "Vossel & Daughters Bakery"];

describe("a password", () => {
  it.each([
    ["that leaked often", "password123!"],
    ["that is a row of keys", "qwertyuiop12"],
    ["that is a word of the dictionary and a year", "sunshine2026"],
    ["that is one letter", "aaaaaaaaaaaaaaaa"],
    ["that is a word in other signs", "p@ssw0rd2026"],
    ["that is what the program is called", "DeepKeep2026"],
  ])("%s is refused, at its field", async (_what, password) => {
    const problem = await refused(password);
    expect(problem).toMatchObject({ code: "request.invalid", status: 422, errors: [{ field: "password" }] });
    expect(problem!.message).toMatch(/^This password is easy to guess\. Use several unrelated words/);
    expect((await refused(password, [], "newPassword"))!.errors[0]!.field).toBe("newPassword");
  });

  it("made of what others know of the person is refused", async () => {
    for (const password of ["HanneVossel1", "vossel.example", "Daughters-Bakery"])
      expect([password, (await refused(password, HANNE))?.code]).toEqual([password, "request.invalid"]);
  });

  it("of a few words that have nothing to do with one another is taken", async () => {
    for (const password of ["otter ferry lantern quarry", "Krume-Anker-Saite-Distel", "x7!Rk2#pLq9z"])
      expect([password, await refused(password, HANNE)]).toEqual([password, null]);
  });

  it("of a thousand characters is taken by what it begins with", async () => {
    expect(await refused("otter ferry lantern quarry ".repeat(40), HANNE)).toBeNull();
    expect(await refused("a".repeat(1000), HANNE)).not.toBeNull();
  });
});
