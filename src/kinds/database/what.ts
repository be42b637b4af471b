import { z } from "zod";

/** What a policy protects of a database. */
export const databaseWhat = z.object({
  /** Tables whose rows are left out, by name, with `*` and `?`; their definitions are kept. */
  excludeData: z
    .array(
      z
        .string()
        .trim()
        .min(1, "An empty pattern matches nothing; leave it out.")
        .max(200, "A pattern has at most 200 characters.")
        .regex(
          /^[^"'\\\p{Cc}|+()[\]{}$^]*$/u,
          "Use a table name such as sessions or audit.*; * and ? stand for other characters.",
        ),
    )
    .max(200)
    .default([]),
});
export type DatabaseWhat = z.infer<typeof databaseWhat>;

export const databaseWhatSentence = ({ excludeData }: DatabaseWhat): string =>
  `Whole databases with roles${excludeData.length ? `, without the rows of ${excludeData.join(", ")}` : ""}`;
