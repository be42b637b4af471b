import {
  Agent,
  createServer,
  type IncomingMessage,
  type RequestListener,
  request,
  type Server,
} from "node:http";
import type { AddressInfo } from "node:net";
import { afterEach, describe, expect, it } from "vitest";
import { handOn } from "./hand-on";
import { hearOut } from "./hear-out";

const servers: Server[] = [];
afterEach(() => {
  for (const server of servers.splice(0)) {
    server.closeAllConnections();
    server.close();
  }
});
async function serve(listener: RequestListener): Promise<number> {
  const server = createServer(listener);
  servers.push(server);
  await new Promise<void>((resolve) => server.listen(0, "127.0.0.1", resolve));
  return (server.address() as AddressInfo).port;
}

interface Heard {
  readonly status: number;
  readonly headers: IncomingMessage["headers"];
  readonly text: string;
}
/** Asks by whatever method, over connections that are kept. */
const ask = (
  port: number,
  method: string,
  path: string,
  { body = "", agent, headers = {} }: { body?: string | Buffer; agent?: Agent; headers?: object } = {},
): Promise<Heard> =>
  new Promise((resolve, reject) => {
    const asked = request(
      { host: "127.0.0.1", port, method, path, headers: { ...headers }, ...(agent ? { agent } : {}) },
      async (response) => {
        const parts: Buffer[] = [];
        for await (const part of response) parts.push(part as Buffer);
        const text = Buffer.concat(parts).toString("utf8");
        resolve({ status: response.statusCode!, headers: response.headers, text });
      },
    );
    asked.once("error", reject);
    asked.end(body);
  });

describe("handing on", () => {
  it("carries methods, headers and content both ways as they are", async () => {
    const viewer = await serve(async (incoming, outgoing) => {
      let body = "";
      for await (const part of incoming) body += part;
      outgoing.writeHead(207, { "content-type": "application/xml", dav: "1" });
      outgoing.end(`${incoming.method} ${incoming.url} ${incoming.headers.depth} ${body}`);
    });
    const door = await serve((incoming, outgoing) => handOn(incoming, outgoing, viewer));
    const answer = await ask(door, "PROPFIND", "/viewings/a%20b/?x=1", {
      body: "<all/>",
      headers: { depth: "1" },
    });
    expect(answer).toMatchObject({ status: 207, text: "PROPFIND /viewings/a%20b/?x=1 1 <all/>" });
    expect(answer.headers).toMatchObject({ dav: "1", "content-type": "application/xml" });
  });

  it("says so where no viewer runs, or none answers", async () => {
    const without = await serve((incoming, outgoing) => handOn(incoming, outgoing, null));
    expect(await ask(without, "GET", "/viewings/x")).toMatchObject({
      status: 503,
      text: "No viewer runs beside this console.\n",
    });
    const gone = await serve(() => {});
    servers.pop()!.close();
    const silent = await serve((incoming, outgoing) => handOn(incoming, outgoing, gone));
    expect(await ask(silent, "GET", "/viewings/x")).toMatchObject({ status: 503 });
  });

  it("lets the viewer know when whoever asked went away", async () => {
    let left = () => {};
    const gone = new Promise<void>((resolve) => {
      left = resolve;
    });
    const viewer = await serve((_, outgoing) => {
      outgoing.writeHead(200);
      const more = setInterval(() => outgoing.write("x".repeat(1000)), 5);
      outgoing.once("close", () => {
        clearInterval(more);
        left();
      });
    });
    const door = await serve((incoming, outgoing) => handOn(incoming, outgoing, viewer));
    const asked = request({ host: "127.0.0.1", port: door, path: "/viewings/endless" }, (response) => {
      response.once("data", () => asked.destroy());
    });
    asked.on("error", () => {});
    asked.end();
    await gone;
  });
});

describe("a request that was answered before it was heard to its end", () => {
  it.each([
    ["half read", async (incoming: IncomingMessage) => void (await incoming[Symbol.asyncIterator]().next())],
    ["not read at all", async () => {}],
  ])("does not hold up the next one on its connection (%s)", async (_name, look) => {
    const connections = new Set<unknown>();
    const port = await serve(async (incoming, outgoing) => {
      connections.add(incoming.socket);
      outgoing.once("finish", () => hearOut(incoming));
      if (incoming.method === "GET") {
        outgoing.end("here");
        return;
      }
      await look(incoming);
      outgoing.writeHead(409);
      outgoing.end("refused");
    });
    const agent = new Agent({ keepAlive: true, maxSockets: 1 });
    const pack = Buffer.alloc(900_000, 7);
    expect(await ask(port, "PUT", "/packs/1", { body: pack, agent })).toMatchObject({ status: 409 });
    expect(await ask(port, "GET", "/next", { agent })).toMatchObject({ status: 200, text: "here" });
    expect(connections.size).toBe(1);
    agent.destroy();
  });
});
