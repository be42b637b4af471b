import { createServer } from "node:http";
import { RUNNER_BEAT_MS } from "@/server/access/unlocked";
import { makeServices } from "@/server/base/services";
import { readSettings } from "@/server/base/settings";
import { ViewingDesk } from "./dav";

/**
 * The viewer as a program: it answers at a loopback port of its own, which the web hands `/viewings/` on to. Keys that a
 * passphrase opened are lent to it as they are to a runner.
 */
const port = Number(process.env.DEEPKEEP_VIEWER_PORT);
if (!Number.isInteger(port) || port < 1)
  throw new Error("DEEPKEEP_VIEWER_PORT is not set: it is the port that the viewer answers at");
const services = makeServices(readSettings(), undefined, "runner");
const report = (error: unknown) => console.error(error);
await services.lentKeys.beat().catch(report);
const beating = setInterval(() => void services.lentKeys.beat().catch(report), RUNNER_BEAT_MS);
const desk = new ViewingDesk(services);
const server = createServer((request, response) => void desk.answer(request, response));
server.listen(port, "127.0.0.1", () => console.log(`The viewer answers at port ${port}.`));
for (const signal of ["SIGINT", "SIGTERM"] as const) {
  process.once(signal, () => {
    clearInterval(beating);
    server.close();
    server.closeAllConnections();
    process.exit(0);
  });
}
