import { createServer, type IncomingMessage, type Server, type ServerResponse } from "node:http";
import type { AddressInfo } from "node:net";
import { afterEach, describe, expect, it } from "vitest";
import { HttpLink } from "./http-link";

/** A console that answers as it is told, one answer after another. */
let server: Server | null = null;
type Answer = (response: ServerResponse, request: IncomingMessage) => void;
async function consoleThat(...answers: Answer[]): Promise<{ link: HttpLink; asked: string[] }> {
  const asked: string[] = [];
  server = createServer((request, response) => {
    asked.push(`${request.method} ${request.url}`);
    const answer = answers[Math.min(asked.length, answers.length) - 1]!;
    request.resume();
    request.once("end", () => answer(response, request));
  });
  await new Promise<void>((resolve) => server!.listen(0, "127.0.0.1", resolve));
  const { port } = server.address() as AddressInfo;
  return { link: new HttpLink(() => `http://127.0.0.1:${port}`, "token", { patienceMs: 5000 }), asked };
}
afterEach(() => {
  server?.closeAllConnections();
  server?.close();
});

const bytes = Buffer.from("sealed bytes of a pack");
const whole: Answer = (response) => response.writeHead(206, { "x-size": "900" }).end(bytes);
const cut: Answer = (response) => {
  response.writeHead(206, { "x-size": "900", "content-length": bytes.length });
  response.write(bytes.subarray(0, 5), () => response.socket?.destroy());
};

describe("the line to the console", () => {
  it("asks again when it is cut half-way through an answer", async () => {
    const { link, asked } = await consoleThat(cut, cut, whole);
    const read = await link.readPack("run", "depot", "pack", 0, bytes.length);
    expect(read).toEqual({ size: 900, bytes });
    expect(asked).toHaveLength(3);
  });
  it("asks again when half of a sentence comes, and hears JSON whole", async () => {
    const half: Answer = (response) => {
      response.writeHead(200, { "content-type": "application/json", "content-length": 40 });
      response.write('["aa", nu', () => response.socket?.destroy());
    };
    const { link } = await consoleThat(half, (response) => response.end('["aa", null]'));
    expect(await link.locate("run", "depot", [Buffer.alloc(32), Buffer.alloc(32)])).toEqual(["aa", null]);
  });
  it("asks again while the console restarts, and says so when it does not come back", async () => {
    const { link, asked } = await consoleThat((response) => response.writeHead(502).end(), whole);
    await link.readPack("run", "depot", "pack", 0, 1);
    expect(asked).toHaveLength(2);
    server!.closeAllConnections();
    await new Promise((resolve) => server!.close(resolve));
    const gone = new HttpLink(() => "http://127.0.0.1:9", "token", { patienceMs: 200 });
    await expect(gone.readPack("run", "depot", "pack", 0, 1)).rejects.toMatchObject({
      code: "console.not-reached",
    });
  });
  it("says that the console is silent, why, and what to do when it moved; once, and when it is back", async () => {
    const { asked } = await consoleThat((response) => response.writeHead(502).end(), cut, whole);
    const { port } = server!.address() as AddressInfo;
    const told: string[] = [];
    const link = new HttpLink(() => `http://127.0.0.1:${port}`, "token", {
      told: (sentence) => told.push(sentence),
      silenceReportedMs: 0,
    });
    await link.readPack("run", "depot", "pack", 0, 1);
    expect(asked).toHaveLength(3);
    expect(told).toHaveLength(2);
    expect(told[0]).toContain("status 502");
    expect(told[0]).toContain("agent move --console URL");
    expect(told[1]).toMatch(/answers again\.$/);
  });
  it("takes its token to no address that it is redirected to, and to a new one it is given", async () => {
    const seen: (string | undefined)[] = [];
    const other = createServer((request, response) => {
      seen.push(request.headers.authorization);
      whole(response, request);
    });
    await new Promise<void>((resolve) => other.listen(0, "127.0.0.1", resolve));
    const there = `http://127.0.0.1:${(other.address() as AddressInfo).port}`;
    try {
      await consoleThat((response) => response.writeHead(308, { location: `${there}/agent/v1/x` }).end());
      let address = `http://127.0.0.1:${(server!.address() as AddressInfo).port}`;
      const told: string[] = [];
      const link = new HttpLink(() => address, "token", {
        told: (sentence) => {
          told.push(`${sentence} (${seen.length} asked)`);
          address = there;
        },
        silenceReportedMs: 0,
      });
      await link.readPack("run", "depot", "pack", 0, 1);
      expect(told[0]).toContain(`agent move --console ${there}`);
      expect(told[0]).toContain("(0 asked)");
      expect(seen).toEqual(["Bearer token"]);
    } finally {
      other.closeAllConnections();
      other.close();
    }
  });
  it("does not ask again what was refused", async () => {
    const refusal = JSON.stringify({ code: "not-found", detail: "no such pack" });
    const { link, asked } = await consoleThat((response) =>
      response.writeHead(404, { "content-type": "application/problem+json" }).end(refusal),
    );
    await expect(link.readPack("run", "depot", "pack", 0, 1)).rejects.toMatchObject({ code: "not-found" });
    expect(asked).toHaveLength(1);
  });
});
