import { z } from "zod";
import { isZone } from "../schedule/local-time";

export const zoneSchema = z
  .string()
  .refine(isZone, "This time zone does not exist; choose one such as Europe/Lisbon.");
