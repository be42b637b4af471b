import { z } from "zod";
import type { Weekday } from "../schedule/weekday";

/** Parts of clauses that tell times by the clock of the client. */

export const clockTime = z
  .string()
  .regex(/^([01]\d|2[0-3]):[0-5]\d$/, "Enter a time as HH:MM, from 00:00 to 23:59.");

export const weekdays = z
  .array(z.union([1, 2, 3, 4, 5, 6, 7].map((day) => z.literal(day as Weekday))))
  .max(7)
  .default([]);

/** Hours of the day on some days, every day where none is named. `to` that is not later than `from` is on the next day. */
export const hoursOfDay = z
  .object({ days: weekdays, from: clockTime, to: clockTime })
  .refine((hours) => hours.from !== hours.to, {
    path: ["to"],
    message: "The window has no length. For the whole day, enter 00:00 to 23:59 or remove it.",
  });
