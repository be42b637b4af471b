const isObject = (value: unknown): value is Readonly<Record<string, unknown>> =>
  typeof value === "object" && value !== null && !Array.isArray(value);

/**
 * The first field, dotted, of what was given that is not in what a schema took of it; null where there is none. Schemas pass
 * over what they do not know, so that programs of ours read what an older or newer one wrote. Of somebody's request such a
 * field is a slip of the pen, and would look as though it had been done.
 */
export function unknownField(given: unknown, taken: unknown, field = ""): string | null {
  const here = (name: string) => (field ? `${field}.${name}` : name);
  if (Array.isArray(given) && Array.isArray(taken)) {
    for (const [i, one] of given.entries()) {
      const found = unknownField(one, taken[i], here(String(i)));
      if (found !== null) return found;
    }
    return null;
  }
  if (!isObject(given) || !isObject(taken)) return null;
  for (const [name, one] of Object.entries(given)) {
    const found = Object.hasOwn(taken, name) ? unknownField(one, taken[name], here(name)) : here(name);
    if (found !== null) return found;
  }
  return null;
}
