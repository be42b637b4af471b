import fc from "fast-check";
import { describe, expect, it } from "vitest";
import { z } from "zod";
import { unknownField } from "./unknown-field";

const schema = z.intersection(
  z.object({
    name: z.string().trim(),
    hours: z.array(z.object({ from: z.coerce.number(), to: z.number().default(24) })).default([]),
    limits: z.record(z.string(), z.number()).optional(),
    site: z.object({ id: z.string() }).nullable().default(null),
    begins: z.iso
      .datetime()
      .transform((text) => new Date(text))
      .optional(),
  }),
  z.discriminatedUnion("kind", [
    z.object({ kind: z.literal("folder"), path: z.string() }),
    z.object({ kind: z.literal("bucket"), bucket: z.string() }),
  ]),
);
const unknownOf = (given: unknown) => unknownField(given, schema.parse(given));
const right = {
  name: " Vossel ",
  hours: [{ from: "7" }, { from: 8, to: 9 }],
  limits: { anything: 1 },
  site: null,
  begins: "2026-11-30T07:30:00Z",
  kind: "folder",
  path: "/depots/one",
};

describe("a field that nobody reads", () => {
  it("is not in what is written as the schema has it, whatever it makes of it", () => {
    expect(unknownOf(right)).toBeNull();
    expect(unknownOf({ name: "", kind: "bucket", bucket: "b", site: { id: "s" } })).toBeNull();
  });

  it.each([
    [{ ...right, nmae: "Vossel" }, "nmae"],
    [{ ...right, hours: [{ from: 7 }, { from: 8, until: 9 }] }, "hours.1.until"],
    [{ ...right, site: { id: "s", client: "c" } }, "site.client"],
    // of the other kind
    [{ ...right, bucket: "b" }, "bucket"],
    [{ ...right, toString: 1 }, "toString"],
  ])("is found where it stands, in %o", (given, field) => {
    expect(unknownOf(given)).toBe(field);
  });

  it("is found whatever it is called, at any depth", () => {
    const names = fc.string({ minLength: 1 }).filter((name) => !(name in right) && name !== "__proto__");
    fc.assert(
      fc.property(names, fc.jsonValue(), fc.nat({ max: 6 }), (name, value, depth) => {
        let given: unknown = { known: 1, [name]: value };
        let taken: unknown = { known: 1 };
        if (name === "known") return;
        const path = [name];
        for (let i = 0; i < depth; i += 1) {
          [given, taken] =
            i % 2
              ? [
                  [1, given],
                  [1, taken],
                ]
              : [{ known: given }, { known: taken }];
          path.unshift(i % 2 ? "1" : "known");
        }
        expect(unknownField(given, taken)).toBe(path.join("."));
      }),
    );
  });
});
