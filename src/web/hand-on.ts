import { type IncomingMessage, request, type ServerResponse } from "node:http";
import { pipeline } from "node:stream";

/**
 * Hands a request on to the viewer at its loopback port, and its answer back, as they are: WebDAV has methods that the
 * framework does not take, and what it answers is nobody's to rewrite.
 */
export function handOn(incoming: IncomingMessage, outgoing: ServerResponse, port: number | null): void {
  const unavailable = (why: string) => {
    if (outgoing.headersSent) {
      outgoing.destroy();
      return;
    }
    outgoing.writeHead(503, { "content-type": "text/plain; charset=utf-8" });
    outgoing.end(`${why}\n`);
  };
  if (port === null) {
    unavailable("No viewer runs beside this console.");
    return;
  }
  const { method, url, headers } = incoming;
  const onward = request(
    { host: "127.0.0.1", port, method, path: url, headers: { ...headers, connection: "keep-alive" } },
    (answer) => {
      const { connection: _, "keep-alive": __, ...told } = answer.headers;
      outgoing.writeHead(answer.statusCode ?? 502, told);
      pipeline(answer, outgoing, () => {});
    },
  );
  onward.once("error", () => unavailable("The viewer does not answer."));
  outgoing.once("close", () => onward.destroy());
  incoming.pipe(onward);
}
