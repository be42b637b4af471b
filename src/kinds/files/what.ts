import { z } from "zod";
import { isKnownPlace, KNOWN_PLACES } from "@/core/selection/known-places";
import { patternSchema } from "@/core/selection/pattern-schema";
import { leavesAllOut, selectionSentence } from "@/core/selection/selection";

const folder = z
  .string()
  .refine(
    (path) => path.startsWith("/") || isKnownPlace(path),
    `A folder is an absolute path: it begins with a slash. Or it is one of these words: ${Object.keys(KNOWN_PLACES).join(", ")}.`,
  )
  .max(4096, "A path has at most 4096 characters.")
  .refine((path) => !path.includes("\0"), "A path has no NUL character.")
  .refine((path) => !path.split("/").includes(".."), "Write the path without “..”.");

const shape = z.object({
  folders: z.array(folder).min(1, "Name at least one folder.").max(200),
  include: z.array(patternSchema).max(200).default([]),
  exclude: z.array(patternSchema).max(200).default([]),
  /** Leaves out caches, wastebaskets, swap and the like. */
  rubbish: z.boolean().default(true),
  largestBytes: z
    .number()
    .int("Whole bytes.")
    .min(1, "At least a byte; smaller would leave everything out.")
    .nullable()
    .default(null),
  changedWithinDays: z
    .number()
    .int("Whole days.")
    .min(1, "At least a day.")
    .max(36_500, "At most a hundred years.")
    .nullable()
    .default(null),
});

/** What a policy protects of a machine's files. */
export const fileWhat = shape.refine((what) => !leavesAllOut(what), {
  // patterns that are no patterns cannot be tried
  when: ({ issues }) => issues.length === 0,
  path: ["exclude"],
  message: "These patterns leave everything out; nothing would be kept.",
});
export type FileWhat = z.infer<typeof fileWhat>;

export const fileWhatSentence = selectionSentence;
