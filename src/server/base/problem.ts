import type { z } from "zod";
import { CODES, type Code, CodedError } from "@/core/codes";

/** What is wrong with one field of a request; `field` is its dotted path. */
export interface FieldError {
  readonly field: string;
  readonly message: string;
}

const STATUS: Partial<Record<Code, number>> = {
  "request.invalid": 422,
  "request.conflict": 409,
  "request.too-many": 429,
  "request.too-large": 413,
  "request.too-slow": 408,
  "request.method": 405,
  "request.media-type": 415,
  "service.unavailable": 503,
  "auth.needed": 401,
  "auth.refused": 401,
  "auth.factor-needed": 401,
  "auth.factor-missing": 403,
  "auth.not-allowed": 403,
  "not-found": 404,
  "key.not-confirmed": 409,
  "key.passphrase-needed": 423,
  "key.wrong-passphrase": 422,
  "key.destroyed": 410,
  "depot.quota": 507,
  "depot.full": 507,
  "internal.error": 500,
};

/** An error as an answer of the API: problem details, RFC 9457. */
export class Problem extends Error {
  constructor(
    readonly code: Code,
    readonly detail?: string,
    readonly errors: readonly FieldError[] = [],
    /** Headers of the answer: `allow`, `retry-after`. */
    readonly headers: Readonly<Record<string, string>> = {},
  ) {
    super(detail ?? CODES[code].title);
    this.name = "Problem";
  }

  get status(): number {
    return STATUS[this.code] ?? 409;
  }

  toJSON() {
    const { title, cause, remedy } = CODES[this.code];
    return {
      type: `/docs/codes#${this.code}`,
      title,
      status: this.status,
      detail: this.detail ?? cause,
      code: this.code,
      remedy,
      errors: this.errors,
    };
  }
}

/** One wrong field. */
export const invalid = (field: string, message: string): Problem =>
  new Problem("request.invalid", message, [{ field, message }]);
export const notFound = (): Problem => new Problem("not-found");

export function problemFromZod(error: z.ZodError): Problem {
  const errors = error.issues.map((issue) => ({ field: issue.path.join("."), message: issue.message }));
  return new Problem(
    "request.invalid",
    errors.map((one) => (one.field ? `${one.field}: ${one.message}` : one.message)).join(" "),
    errors,
  );
}

/** Any error as a problem; what is not known becomes `internal.error` and tells nothing of itself. */
export function problemFrom(error: unknown): Problem {
  if (error instanceof Problem) return error;
  if (error instanceof CodedError) return new Problem(error.code, error.message);
  const { code } = error as { code?: string };
  // a foreign key: an id of the request names something that is not there
  if (code === "23503") return notFound();
  // row-level security, or a transaction that only reads: the rights in the server should have said so before
  if (code === "42501" || code === "25006") return new Problem("auth.not-allowed");
  if (isDatabaseAway(error)) return new Problem("service.unavailable", undefined, [], { "retry-after": "5" });
  return new Problem("internal.error");
}

/** Codes of the system, and classes of SQLSTATE (08: connection, 57: operator intervention, 53: resources). */
const AWAY = /^(ECONNREFUSED|ECONNRESET|ENOENT|EPIPE|ETIMEDOUT|08...|57P0.|53...)$/;
const AWAY_WORDS =
  /Connection terminated|timeout exceeded when trying to connect|Client has encountered a connection error/;
/** Whether an error says that the database cannot be reached, or is going down. */
export const isDatabaseAway = (error: unknown): boolean => {
  const { code, syscall, message } = error as { code?: string; syscall?: string; message?: string };
  if (code && AWAY.test(code))
    return code.length === 5 || syscall === "connect" || syscall === "read" || syscall === "write";
  return AWAY_WORDS.test(message ?? "");
};
