import type { IncomingMessage } from "node:http";

/** Methods that pages, API and agents answer; the viewer has its own. */
const METHODS = new Set(["GET", "HEAD", "POST", "PUT", "PATCH", "DELETE", "OPTIONS"]);

export interface Refusal {
  readonly status: number;
  readonly headers: Readonly<Record<string, string>>;
  readonly problem: {
    readonly type: string;
    readonly title: string;
    readonly status: number;
    readonly code: string;
  };
}

/**
 * What is refused before the framework sees it, which answers both with an error of its own: methods that nothing here has
 * (TRACE, CONNECT), and addresses whose percent escapes are malformed (RFC 3986, section 2.1) or not UTF-8.
 */
export function refusalOf({
  method = "GET",
  url = "/",
}: Pick<IncomingMessage, "method" | "url">): Refusal | null {
  // the viewer has methods of its own, and names of files in any bytes
  if (url.startsWith("/viewings/")) return null;
  if (!METHODS.has(method))
    return refusal(405, "request.method", "Method not allowed", { allow: [...METHODS].join(", ") });
  try {
    decodeURIComponent(url.replace(/\?.*$/s, ""));
    decodeURIComponent(url.replace(/^[^?]*\??/s, "").replaceAll("+", " "));
  } catch {
    return refusal(400, "request.invalid", "Malformed percent escape in the address");
  }
  return null;
}

const refusal = (
  status: number,
  code: string,
  title: string,
  headers: Readonly<Record<string, string>> = {},
): Refusal => ({ status, headers, problem: { type: `/docs/codes#${code}`, title, status, code } });
