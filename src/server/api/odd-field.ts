/**
 * The field of a text that no text here may be: with a NUL, which names of files have not either, or with half of a
 * character (a lone surrogate), which UTF-8 cannot say. The database keeps neither.
 */
export function oddField(value: unknown, field = ""): string | null {
  if (typeof value === "string") return value.includes("\0") || !wellFormed(value) ? field : null;
  if (typeof value !== "object" || value === null) return null;
  for (const [name, one] of Object.entries(value)) {
    if (!wellFormed(name)) return field;
    const found = oddField(one, field ? `${field}.${name}` : name);
    if (found !== null) return found;
  }
  return null;
}

/** Whether each half of a character stands beside its other half. */
const wellFormed = (text: string): boolean => !/\p{Surrogate}/u.test(text);
