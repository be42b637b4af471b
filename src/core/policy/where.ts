import { z } from "zod";
import type { DepotId } from "../ids";

/** The clause Where: in which depots recovery points are kept, and how they come there. */
export const whereClause = z
  .object({
    /** The depot that takes part in every run, and is read from first. */
    depotId: z.uuid("Choose a depot."),
    /** Depots that a run writes to as well. One that fails or is away is caught up later. */
    beside: z.array(z.uuid("Choose a depot.")).max(4, "At most four depots beside the first.").default([]),
    /** How many of them are written at the same time; the rest follow in turn, pack by pack. */
    atOnce: z
      .number()
      .int("A whole number.")
      .min(1, "At least one at a time.")
      .max(5, "At most five at the same time.")
      .default(2),
    /** Where points are carried afterwards by the depots themselves. */
    carryTo: z.array(z.uuid("Choose a depot.")).max(4, "At most four further places.").default([]),
    /** What a run does while the first depot is away by plan. */
    whenAway: z.enum(["wait", "others"]).default("wait"),
  })
  .superRefine((where, context) => {
    const seen = new Set([where.depotId]);
    for (const field of ["beside", "carryTo"] as const)
      for (const id of where[field]) {
        if (seen.has(id))
          context.addIssue({
            code: "custom",
            path: [field],
            message: "A further place is another depot than the first, and named once.",
          });
        seen.add(id);
      }
    if (where.whenAway === "others" && where.beside.length + where.carryTo.length === 0)
      context.addIssue({
        code: "custom",
        path: ["whenAway"],
        message: "No other depot is selected for the runs. Add one, or let the runs wait.",
      });
  });
export type Where = z.infer<typeof whereClause>;

/** All depots of the clause but the first. */
export const furtherDepots = (where: Where): string[] => [...where.beside, ...where.carryTo];

/** Depots that a run may go to, in the order of preference; with all of them away it waits. */
export const runDepots = (where: Where): string[] =>
  where.whenAway === "others" ? [where.depotId, ...furtherDepots(where)] : [where.depotId];

/** Where points go, by the names of the depots. */
export function whereSentence(where: Where, nameOf: (depotId: DepotId) => string): string {
  const names = (ids: readonly string[]) => ids.map(nameOf).join(" and ");
  const inTurn = where.beside.length + 1 > where.atOnce;
  return [
    nameOf(where.depotId),
    where.beside.length ? `${inTurn ? " and in turn" : " and at the same time"} ${names(where.beside)}` : "",
    where.carryTo.length ? `, then carried to ${names(where.carryTo)}` : "",
    where.whenAway === "others" ? `; while it is absent, runs use the others` : "",
  ].join("");
}
