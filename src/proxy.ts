import { type NextRequest, NextResponse } from "next/server";

/**
 * The content security policy of every page: scripts of ours alone, each named by a number used once. Styles may stand in
 * the page, because widths and colours of drawings are computed there; nothing comes from elsewhere, and no other page
 * may show ours within itself.
 */
export function proxy(request: NextRequest): NextResponse {
  if (request.nextUrl.pathname.startsWith("/viewings/")) return handOn(request);
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
  if (request.headers.get("x-forwarded-proto")?.startsWith("https"))
    response.headers.set("strict-transport-security", "max-age=63072000; includeSubDomains");
  return response;
}

/** Viewings speak WebDAV, whose methods no route takes: the viewer answers them at a port of its own, with a policy of its own. */
function handOn(request: NextRequest): NextResponse {
  const port = process.env.DEEPKEEP_VIEWER_PORT;
  if (!port) return new NextResponse("No viewer runs beside this console.\n", { status: 503 });
  const { pathname, search } = request.nextUrl;
  return NextResponse.rewrite(new URL(`http://127.0.0.1:${port}${pathname}${search}`));
}

// answers of the API and of files that were built have a policy of their own: next.config.ts
export const config = { matcher: ["/((?!api/|agent/|_next/|healthz|readyz|metrics).*)"] };
