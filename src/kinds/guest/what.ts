import { z } from "zod";
import { patternSchema } from "@/core/selection/pattern-schema";

/** What a policy protects of a guest. */
export const guestWhat = z.object({
  /** Disks that are left out, by the host's names, with `*` and `?`. */
  excludeDisks: z.array(patternSchema).max(50).default([]),
});
export type GuestWhat = z.infer<typeof guestWhat>;

export const guestWhatSentence = ({ excludeDisks }: GuestWhat): string =>
  `Whole guests${excludeDisks.length ? `, without the disks ${excludeDisks.join(", ")}` : ""}`;
