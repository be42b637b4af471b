export type CsvCell = string | number | null;

const cell = (value: CsvCell): string => {
  const text = value === null ? "" : String(value);
  // a leading = + - @ would run as a formula when a spreadsheet opens the file
  const safe = /^[=+\-@\t\r]/.test(text) && typeof value === "string" ? `'${text}` : text;
  return /[",\n\r]/.test(safe) ? `"${safe.replace(/"/g, '""')}"` : safe;
};

/** A line of CSV (RFC 4180), with its end. */
export const csvLine = (cells: readonly CsvCell[]): string => `${cells.map(cell).join(",")}\r\n`;
