import type { IncomingHttpHeaders } from "node:http";
import { type BlockList, isIP } from "node:net";
import { isIn, plainAddress } from "@/store/places/reach";

/** What a request says about who sent it, or what the framework would take for that. */
const TOLD = /^(forwarded|x-forwarded-.*|x-real-ip|x-middleware-.*|x-nextjs-.*)$/;

/**
 * Settles who called, for everybody behind: `x-forwarded-for` is the one address of the caller, `-proto` and `-host` what
 * the caller typed. A proxy that is trusted is believed, for the nearest address that is no trusted proxy; whatever others
 * say of themselves is taken off.
 */
export function settleCaller(
  headers: IncomingHttpHeaders,
  connection: { readonly peer: string; readonly encrypted: boolean },
  proxies: BlockList,
): void {
  const believed = isIn(proxies, connection.peer);
  const last = (name: string): string | undefined =>
    believed
      ? String(headers[name] ?? "")
          .split(",")
          .at(-1)!
          .trim() || undefined
      : undefined;
  const hops = believed ? String(headers["x-forwarded-for"] ?? "").split(",") : [];
  const told = [...hops.map((hop) => plainAddress(hop.trim())), plainAddress(connection.peer)];
  const caller = told.findLast((hop, i) => i === 0 || !isIP(hop) || !isIn(proxies, hop));
  const proto = last("x-forwarded-proto");
  const host = last("x-forwarded-host");
  for (const name of Object.keys(headers)) if (TOLD.test(name)) delete headers[name];
  headers["x-forwarded-for"] = caller && isIP(caller) ? caller : plainAddress(connection.peer);
  headers["x-forwarded-proto"] = proto === "https" || (!proto && connection.encrypted) ? "https" : "http";
  const typed = host ?? headers.host;
  if (typed) headers["x-forwarded-host"] = typed;
}
