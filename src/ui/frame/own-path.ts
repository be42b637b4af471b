/**
 * The path of this console that an address names, as a browser reads it (WHATWG URL: tabs and line breaks are dropped, a
 * backslash is a slash); "/" for anything that leads to another origin, or is none.
 */
export function ownPath(address: string | null, origin: string): string {
  if (!address?.startsWith("/") || !URL.canParse(address, origin)) return "/";
  const url = new URL(address, origin);
  // a second slash at the start would be read as a host
  return url.origin === origin && !url.pathname.startsWith("//") ? url.pathname + url.search + url.hash : "/";
}
