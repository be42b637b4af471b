import { randomBytes } from "node:crypto";
import { createServer } from "node:http";
import type { AddressInfo } from "node:net";
import { HttpLink } from "@/agent/http-link";
import { Pacer } from "@/agent/pacer";
import { type Figure, figure, say } from "./ground";

const SECONDS = Number(process.env.DEEPKEEP_BENCH_SECONDS ?? 60);
const RATES = [256 * 1024, 4 * 1024 * 1024];
const PACK_BYTES = 16 * 1024 * 1024;

/** What arrives over HTTP in a minute from an agent's link that is held to a rate. */
export async function benchBandwidth(): Promise<Figure[]> {
  const figures: Figure[] = [];
  for (const rate of RATES) {
    let arrived = 0;
    const server = createServer((request, response) => {
      request.on("data", (part: Buffer) => {
        arrived += part.length;
      });
      request.on("end", () => response.writeHead(204).end());
    });
    await new Promise<void>((resolve) => server.listen(0, "127.0.0.1", resolve));
    const ending = new AbortController();
    const pacer = new Pacer(ending.signal);
    pacer.set(rate);
    const link = new HttpLink(() => `http://127.0.0.1:${(server.address() as AddressInfo).port}`, "bench");
    const pack = [randomBytes(PACK_BYTES)];
    const holds = { ids: [], contentBytes: PACK_BYTES };
    const sending = (async () => {
      while (!ending.signal.aborted) await link.putPack("run", "pack", holds, pack, pacer);
    })().catch(() => {});
    const started = performance.now();
    await new Promise((resolve) => setTimeout(resolve, SECONDS * 1000));
    const reached = arrived / ((performance.now() - started) / 1000);
    ending.abort();
    await sending;
    server.closeAllConnections();
    server.close();
    say(`  held to ${rate / 1024} KiB/s: ${(reached / 1024).toFixed(1)} KiB/s over ${SECONDS} s`);
    const off = Math.abs(reached / rate - 1) * 100;
    figures.push(figure(`bandwidth of ${rate / 1024} KiB/s, off by`, "%", off, "its limit", 10, 1));
  }
  return figures;
}
