import { Problem } from "../base/problem";

/** How much of a body is read, and how long it may take. */
export interface BodyLimits {
  /** Bytes. */
  readonly most: number;
  /** Longest pause between two parts of the body, in milliseconds. */
  readonly silenceMs?: number;
  /** Longest time for the whole body, in milliseconds. */
  readonly totalMs?: number;
}

export const JSON_LIMITS = { most: 1024 * 1024, silenceMs: 10_000, totalMs: 60_000 } as const;
/** Objects and lists inside each other. Nothing in the API nests deeper than ten. */
const MOST_NESTED = 64;

/**
 * Reads a request's body and measures it while it is read: beyond the limit nothing more is taken in. Every route reads its
 * body here. Throws `request.too-large` (413) and `request.too-slow` (408).
 */
export async function readBody(request: Request, limits: BodyLimits): Promise<Buffer> {
  const { most, silenceMs = JSON_LIMITS.silenceMs, totalMs = JSON_LIMITS.totalMs } = limits;
  const tooLarge = () => new Problem("request.too-large", `The request body is larger than ${most} bytes.`);
  if (Number(request.headers.get("content-length") ?? 0) > most) throw tooLarge();
  if (!request.body) return Buffer.alloc(0);
  const reader = request.body.getReader();
  const parts: Uint8Array[] = [];
  const until = performance.now() + totalMs;
  let length = 0;
  try {
    for (;;) {
      const { done, value } = await inTime(reader.read(), Math.min(silenceMs, until - performance.now()));
      if (done) return Buffer.concat(parts, length);
      length += value.length;
      if (length > most) throw tooLarge();
      parts.push(value);
    }
  } catch (error) {
    void reader.cancel().catch(() => {});
    throw error;
  }
}

async function inTime<T>(work: Promise<T>, milliseconds: number): Promise<T> {
  let timer: NodeJS.Timeout | undefined;
  const late = new Promise<never>((_, reject) => {
    timer = setTimeout(
      () => reject(new Problem("request.too-slow", "The request body did not arrive in time.")),
      Math.max(0, milliseconds),
    );
  });
  try {
    return await Promise.race([work, late]);
  } finally {
    clearTimeout(timer);
  }
}

/**
 * A request's body as JSON; none is an empty object. Throws `request.media-type` (415) for any other content type, which a
 * page of another site can send without asking, and `request.invalid` (422).
 */
export async function readJson(request: Request): Promise<unknown> {
  const bytes = await readBody(request, JSON_LIMITS);
  if (bytes.length === 0) return {};
  const type = (request.headers.get("content-type") ?? "").replace(/;.*$/s, "").trim().toLowerCase();
  if (type !== "application/json") throw new Problem("request.media-type");
  return parseJson(bytes);
}

/** JSON from bytes. Throws `request.invalid` for what is no UTF-8, no JSON, or nested too deep. */
export function parseJson(bytes: Uint8Array): unknown {
  let text: string;
  try {
    text = new TextDecoder("utf-8", { fatal: true }).decode(bytes);
  } catch {
    throw new Problem("request.invalid", "The request body is not UTF-8.");
  }
  if (nesting(text) > MOST_NESTED)
    throw new Problem("request.invalid", `The request body nests deeper than ${MOST_NESTED} levels.`);
  try {
    return JSON.parse(text);
  } catch {
    throw new Problem("request.invalid", "The request body is not valid JSON.");
  }
}

/** How deep objects and lists lie inside each other in a JSON text; stops counting at the limit. */
export function nesting(text: string): number {
  let depth = 0;
  let deepest = 0;
  let quoted = false;
  for (let at = 0; at < text.length && deepest <= MOST_NESTED; at += 1) {
    const char = text[at];
    if (quoted) {
      if (char === "\\") at += 1;
      else if (char === '"') quoted = false;
    } else if (char === '"') quoted = true;
    else if (char === "{" || char === "[") {
      depth += 1;
      deepest = Math.max(deepest, depth);
    } else if (char === "}" || char === "]") depth -= 1;
  }
  return deepest;
}
