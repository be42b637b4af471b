import { describe, expect, it } from "vitest";
import { z } from "zod";
import { fieldWords } from "./field-words";

const words = (schema: z.ZodType, value: unknown): string[] => {
  const result = schema.safeParse(value, { error: fieldWords });
  return result.success ? [] : result.error.issues.map((issue) => issue.message);
};

const kinds = z.discriminatedUnion("kind", [
  z.object({ kind: z.literal("folder"), path: z.string() }),
  z.object({ kind: z.literal("bucket"), bucket: z.string() }),
]);

describe("what is wrong with a field", () => {
  it.each<[z.ZodType, unknown, string]>([
    [z.string(), undefined, "Required: text."],
    [z.string(), 7, "Expected text, got a number."],
    [z.string(), null, "Expected text, got null."],
    [z.array(z.string()), {}, "Expected a list, got an object."],
    [z.object({}), [], "Expected an object, got a list."],
    [z.boolean(), "yes", "Expected true or false, got text."],
    [z.int(), 1.5, "Expected a whole number, got a number."],
    [z.coerce.number(), "seven", "Expected a number, got a value that is not a number."],
    [z.enum(["clean", "failed"]), "good", "Enter one of: clean, failed."],
    [z.enum(["clean", "failed"]), undefined, "Required: one of: clean, failed."],
    [z.literal("deep"), "shallow", "Enter deep."],
    [kinds, { kind: "tape" }, "Enter one of: folder, bucket."],
    [z.union([z.string(), z.number()]), true, "The value has none of the allowed forms."],
    [z.string().min(1), "", "This is empty."],
    [z.string().min(20), "short", "At least 20 characters."],
    [z.string().max(1), "ab", "At most 1 character."],
    [z.array(z.number()).max(2), [1, 2, 3], "At most 2 items."],
    [z.number().min(1), 0, "At least 1."],
    [z.number().positive(), 0, "More than 0."],
    [z.number().lt(10), 10, "Less than 10."],
    [z.number().multipleOf(5), 7, "A multiple of 5."],
    [z.uuid(), "7", "Enter an id (UUID)."],
    [z.email(), "vossel", "Enter an e-mail address, such as name@company.example."],
    [z.iso.datetime(), "yesterday", "Enter a date and time with a zone, such as 2026-11-30T19:30:00Z."],
    [z.iso.date(), "30.11.", "Enter a date, such as 2026-11-30."],
    [z.string().regex(/^[0-9a-f]{32}$/), "point", "The value does not have the required format."],
    [z.strictObject({}), { other: 1 }, "This value is not allowed here."],
  ])("is said in words: %#", (schema, value, said) => {
    expect(words(schema, value)).toEqual([said]);
  });

  it("is said by the schema where that has words of its own", () => {
    expect(words(z.string().min(1, "Enter the client's name."), "")).toEqual(["Enter the client's name."]);
  });
});
