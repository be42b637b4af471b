import { type NextRequest, NextResponse } from "next/server";

/**
 * The content security policy of every page: scripts of ours alone, each named by a number used once. Styles may stand in
 * the page, because widths and colours of drawings are computed there; nothing comes from elsewhere, and no other page
 * may show ours within itself.
 */
export function proxy(request: NextRequest): NextResponse {
  const nonce = btoa(crypto.randomUUID());
  const policy = [
    "default-src 'self'",
    `script-src 'self' 'nonce-${nonce}' 'strict-dynamic'`,
    "style-src 'self' 'unsafe-inline'",
    "img-src 'self' data: blob:",
    "font-src 'self'",
    "connect-src 'self'",
    "worker-src 'self'",
    "object-src 'none'",
    "base-uri 'none'",
    "form-action 'self'",
    "frame-ancestors 'none'",
  ].join("; ");
  const headers = new Headers(request.headers);
  // the framework reads it here and gives the number to its own scripts
  headers.set("content-security-policy", policy);
  const response = NextResponse.next({ request: { headers } });
  response.headers.set("content-security-policy", policy);
  return response;
}

// answers of the API and of files that were built have a policy of their own: next.config.ts
export const config = { matcher: ["/((?!api/|agent/|_next/|healthz|readyz|metrics).*)"] };
