import { readFileSync, watchFile } from "node:fs";
import { createServer as createPlain, type RequestListener } from "node:http";
import { createServer as createSecure } from "node:https";
import next from "next";
import { blocksOf } from "@/store/places/reach";
import { settleCaller } from "./callers";
import { handOn } from "./hand-on";
import { hearOut } from "./hear-out";
import { refusalOf } from "./refusal";

/**
 * The web as a program: pages and API by the framework, behind one door that settles who called, and that speaks TLS where
 * it is given a certificate.
 */
const project = process.env.DEEPKEEP_PROJECT ?? process.cwd();
const port = Number(process.env.DEEPKEEP_PORT ?? 4380);
const host = process.env.DEEPKEEP_HOST ?? "127.0.0.1";
const viewer = process.env.DEEPKEEP_VIEWER_PORT ? Number(process.env.DEEPKEEP_VIEWER_PORT) : null;
/** Proxies on this machine alone are believed, where nothing else is said. */
const proxies = blocksOf(process.env.DEEPKEEP_PROXIES ?? "127.0.0.0/8, ::1");
/** A renewed certificate is taken up within so many milliseconds. */
const CERTIFICATE_LOOK_MS = 60_000;

/** The files of certificate and key, PEM; null without TLS. Throws where only one is named. */
function certificateFiles(): { cert: string; key: string } | null {
  const { DEEPKEEP_TLS_CERT: cert, DEEPKEEP_TLS_KEY: key } = process.env;
  if (!cert && !key) return null;
  if (!cert || !key)
    throw new Error("TLS wants both: DEEPKEEP_TLS_CERT and DEEPKEEP_TLS_KEY name a PEM file each.");
  return { cert, key };
}

const app = next({ dev: false, dir: project, hostname: host, port });
await app.prepare();
const answer = app.getRequestHandler();
const listener: RequestListener = (request, response) => {
  const { remoteAddress = "" } = request.socket;
  const encrypted = "encrypted" in request.socket;
  settleCaller(request.headers, { peer: remoteAddress, encrypted }, proxies);
  response.once("finish", () => hearOut(request));
  if (request.headers["x-forwarded-proto"] === "https")
    response.setHeader("strict-transport-security", "max-age=63072000; includeSubDomains");
  const refused = refusalOf(request);
  if (refused) {
    response.writeHead(refused.status, { "content-type": "application/problem+json", ...refused.headers });
    response.end(JSON.stringify(refused.problem));
  } else if (request.url?.startsWith("/viewings/")) handOn(request, response, viewer);
  else void answer(request, response);
};

const files = certificateFiles();
const readFiles = ({ cert, key }: { cert: string; key: string }) => ({
  cert: readFileSync(cert),
  key: readFileSync(key),
  minVersion: "TLSv1.2" as const,
});
const server = files ? createSecure(readFiles(files), listener) : createPlain(listener);
if (files)
  watchFile(files.cert, { interval: CERTIFICATE_LOOK_MS, persistent: false }, () => {
    try {
      (server as ReturnType<typeof createSecure>).setSecureContext(readFiles(files));
      console.log("The certificate was renewed.");
    } catch (error) {
      // halfway through its renewal; the next look is in a minute
      console.error(error);
    }
  });
// longer than a proxy in front keeps a connection that rests
server.keepAliveTimeout = 75_000;
// a pack over a link that is held to a few kilobytes a second; headers have a minute of their own
server.requestTimeout = 2 * 3_600_000;
server.listen(port, host, () => console.log(`The web answers at port ${port}${files ? ", over TLS" : ""}.`));
for (const signal of ["SIGINT", "SIGTERM"] as const)
  process.once(signal, () => {
    server.close();
    server.closeAllConnections();
    process.exit(0);
  });
