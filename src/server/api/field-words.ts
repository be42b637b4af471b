import type { z } from "zod";

const KINDS: Readonly<Record<string, string>> = {
  string: "text",
  number: "a number",
  int: "a whole number",
  boolean: "true or false",
  object: "an object",
  record: "an object",
  array: "a list",
  null: "null",
};

const FORMS: Readonly<Record<string, string>> = {
  uuid: "Enter an id (UUID).",
  email: "Enter an e-mail address, such as name@company.example.",
  url: "Enter an address, such as https://server.example.",
  datetime: "Enter a date and time with a zone, such as 2026-11-30T19:30:00Z.",
  date: "Enter a date, such as 2026-11-30.",
};

function kindOf(value: unknown): string {
  if (value === null) return KINDS.null!;
  if (Array.isArray(value)) return KINDS.array!;
  if (typeof value === "number" && !Number.isFinite(value)) return "a value that is not a number";
  return KINDS[typeof value] ?? "something else";
}

/** What is counted of a text or a list; of a number nothing is. */
const UNITS: Readonly<Record<string, readonly [one: string, more: string]>> = {
  string: ["character", "characters"],
  array: ["item", "items"],
};

function amount(limit: number | bigint, origin: string): string {
  const unit = UNITS[origin];
  return unit ? `${limit} ${limit === 1 ? unit[0] : unit[1]}` : String(limit);
}

const oneOf = (values: readonly unknown[]): string =>
  values.length === 1 ? String(values[0]) : `one of: ${values.join(", ")}`;

/** What is wrong with a field, for where its schema has no words of its own: what stands there, and what is wanted. */
export function fieldWords(issue: z.core.$ZodRawIssue): string {
  const missing = issue.input === undefined;
  switch (issue.code) {
    case "invalid_type": {
      const wanted = KINDS[issue.expected] ?? issue.expected;
      return missing ? `Required: ${wanted}.` : `Expected ${wanted}, got ${kindOf(issue.input)}.`;
    }
    case "invalid_value":
      return `${missing ? "Required:" : "Enter"} ${oneOf(issue.values)}.`;
    case "invalid_union":
      return "options" in issue && Array.isArray(issue.options)
        ? `Enter ${oneOf(issue.options)}.`
        : "The value has none of the allowed forms.";
    case "too_small":
      if (issue.origin === "string" && issue.minimum === 1) return "This is empty.";
      return `${issue.inclusive === false ? "More than" : "At least"} ${amount(issue.minimum, issue.origin)}.`;
    case "too_big":
      return `${issue.inclusive === false ? "Less than" : "At most"} ${amount(issue.maximum, issue.origin)}.`;
    case "invalid_format":
      return FORMS[issue.format] ?? "The value does not have the required format.";
    case "not_multiple_of":
      return `A multiple of ${issue.divisor}.`;
    default:
      return "This value is not allowed here.";
  }
}
