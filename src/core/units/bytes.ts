const UNITS = ["B", "KiB", "MiB", "GiB", "TiB", "PiB"] as const;

/** A size in binary units with three figures at most: `1.31 TiB`, `412 GiB`, `0 B`. Negative sizes keep their sign. */
export function formatBytes(bytes: number): string {
  if (bytes < 0) return `−${formatBytes(-bytes)}`;
  let value = bytes;
  let unit = 0;
  while (value >= 1023.5 && unit < UNITS.length - 1) {
    value /= 1024;
    unit += 1;
  }
  const digits = unit === 0 || value >= 99.95 ? 0 : value >= 9.995 ? 1 : 2;
  return `${value.toFixed(digits)} ${UNITS[unit]}`;
}

/**
 * Reads a size as people type it: `20 GiB`, `500MB`, `1.5t`, `1024`. Decimal units (MB) count by thousands, binary ones
 * (MiB) and bare letters by 1024. Returns bytes, or null when it is no size.
 */
export function parseBytes(text: string): number | null {
  const match = /^\s*(\d+(?:[.,]\d+)?)\s*(?:([kmgtp])(i?b)?|b)?\s*$/i.exec(text);
  if (!match?.[1]) return null;
  const value = Number(match[1].replace(",", "."));
  const letter = match[2]?.toLowerCase();
  if (!letter) return Math.round(value);
  const base = match[3]?.toLowerCase() === "b" ? 1000 : 1024;
  return Math.round(value * base ** ("kmgtp".indexOf(letter) + 1));
}

/** A size as it is put into a field: as `formatBytes` says it where that is read as just so many bytes, else by the byte. */
export function exactBytes(bytes: number): string {
  const text = formatBytes(bytes);
  return parseBytes(text) === bytes ? text : `${bytes} B`;
}
