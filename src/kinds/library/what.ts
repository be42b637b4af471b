import { z } from "zod";
import { patternSchema } from "@/core/selection/pattern-schema";

/** What a policy protects of a library. */
export const libraryWhat = z.object({
  /** Names and paths that are left out, with `*`, `**` and `?`. */
  exclude: z.array(patternSchema).max(200).default([]),
});
export type LibraryWhat = z.infer<typeof libraryWhat>;

export const libraryWhatSentence = ({ exclude }: LibraryWhat): string =>
  `Whole libraries${exclude.length ? `, without ${exclude.join(", ")}` : ""}`;
