import { zoned } from "@/core/units/zoned";

const label = zoned("sv-SE", { dateStyle: "short", timeStyle: "short" });

/** `2026-11-17 18:05` in a zone: goes into logs. */
export const momentText = label;

/** `2026-11-17 18.05` in a zone: goes into names of files that are kept beside others. */
export const momentLabel = (moment: Date, zone: string): string => label(moment, zone).replace(":", ".");
