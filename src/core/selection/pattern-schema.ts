import { z } from "zod";
import { patternProblem } from "./pattern";

/** A pattern of pattern.ts, checked at the edge. */
export const patternSchema = z
  .string()
  .trim()
  .min(1, "An empty pattern matches nothing; leave it out.")
  .max(500, "A pattern has at most 500 characters.")
  .superRefine((text, context) => {
    const problem = patternProblem(text);
    if (problem) context.addIssue({ code: "custom", message: problem });
  });
