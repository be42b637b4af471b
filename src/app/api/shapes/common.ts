import { z } from "zod";
import { CODES, type Code } from "@/core/codes";
import { CLAUSE_NAMES } from "@/core/policy/cascade";
import { OUTCOMES, STATES } from "@/core/protection/state";
import { SOURCE_KINDS } from "@/kinds";

/** A moment: a Date of the handler, text of ISO 8601 in UTC in the answer. */
export const moment = z
  .date()
  .transform((date) => date.toISOString())
  .pipe(z.iso.datetime());

export const list = <T extends z.ZodType>(of: T) => z.array(of).readonly();

export const outcome = z.enum(OUTCOMES);
/** How many of each outcome. */
export const outcomes = z.object({
  clean: z.number(),
  caution: z.number(),
  failed: z.number(),
  stopped: z.number(),
  missed: z.number(),
});
export const state = z.enum(STATES);
/** How many sources in each state. */
export const states = z.record(state, z.number());
export const clauseName = z.enum(CLAUSE_NAMES);
export const codeName = z.enum(Object.keys(CODES) as [Code, ...Code[]]);
export const sourceKind = z.enum(SOURCE_KINDS);
export const codeText = z.object({
  title: z.string(),
  cause: z.string(),
  remedy: z.string(),
  retry: z.boolean(),
});
