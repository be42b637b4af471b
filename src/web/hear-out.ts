import type { IncomingMessage } from "node:http";

/**
 * Reads what is left of a request that was answered before it was heard to its end, a pack that is refused, say: the next
 * request on the same connection would wait behind it.
 */
export function hearOut(request: IncomingMessage): void {
  if (request.complete) return;
  // whoever was reading waits to be asked for more, and nobody will
  for (const event of ["readable", "data"]) request.removeAllListeners(event);
  request.unpipe();
  request.resume();
}
