/** `2026-11-17 18.05` in a zone: goes into names of files that are kept beside others. */
export function momentLabel(moment: Date, zone: string): string {
  const parts = new Intl.DateTimeFormat("sv-SE", {
    timeZone: zone,
    dateStyle: "short",
    timeStyle: "short",
  }).format(moment);
  return parts.replace(":", ".");
}
