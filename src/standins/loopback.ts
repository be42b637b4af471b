import type { Server } from "node:http";
import type { AddressInfo } from "node:net";

/** Lets a server listen on loopback, with port 0 on a free one. Returns its origin. */
export const listenOnLoopback = (server: Server, port: number): Promise<string> =>
  new Promise((resolve, reject) => {
    server.once("error", reject);
    server.listen(port, "127.0.0.1", () =>
      resolve(`http://127.0.0.1:${(server.address() as AddressInfo).port}`),
    );
  });

/** Ends a server and every connection to it. */
export function closeServer(server: Server): Promise<void> {
  server.closeAllConnections();
  return new Promise((resolve) => server.close(() => resolve()));
}
