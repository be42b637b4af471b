import { randomBytes } from "node:crypto";
import { createServer, type IncomingMessage, type Server, type ServerResponse } from "node:http";
import { z } from "zod";
import type { BlockDevice } from "@/disks/device";
import { type Listening, serveNbd } from "@/disks/server";
import { closeServer, listenOnLoopback } from "../loopback";
import { BITMAP, type Estate, type GuestState, Refusal } from "./estate";

/**
 * Managements of hypervisor hosts with the host API (docs/host-api.md): guests, snapshots and power over HTTP, the content
 * of disks over NBD. One process serves several, each below its own path.
 */
const BODY_BYTES = 1024 * 1024;
const snapshotBody = z.object({ owner: z.string().min(1), since: z.string().nullable() });
const guestBody = z.object({
  name: z.string().min(1),
  memory: z.number(),
  processors: z.number(),
  definition: z.string(),
  replaces: z.string().nullable(),
  disks: z.array(z.object({ name: z.string(), size: z.number().positive() })).min(1),
});
const powerBody = z.object({ on: z.boolean() });

const shown = ({ id, name, path, memory, processors, running }: GuestState) => ({
  id,
  name,
  path,
  memory,
  processors,
  running,
});

export class HostServer {
  private readonly server: Server;
  private nbd: Listening | null = null;
  /** Devices by names that nobody can guess. */
  private readonly exports = new Map<string, { readonly device: BlockDevice; readonly of: string }>();

  constructor(private readonly estates: ReadonlyMap<string, Estate>) {
    this.server = createServer((request, response) => {
      this.answer(request, response).catch((error: Error) => {
        if (!(error instanceof Refusal)) console.error(error);
        const status = error instanceof Refusal ? error.status : 500;
        if (!response.headersSent) response.writeHead(status, { "content-type": "application/problem+json" });
        response.end(JSON.stringify({ status, detail: error.message }));
      });
    });
  }

  /** Listens on loopback; with port 0 on a free one. Returns its origin. */
  async listen(port = 0): Promise<string> {
    this.nbd = await serveNbd(
      { host: "127.0.0.1", port: 0 },
      {
        names: () => [],
        open: async (name) => {
          const found = this.exports.get(name);
          return found ? { device: found.device, close: () => {} } : null;
        },
      },
    );
    return listenOnLoopback(this.server, port);
  }

  async close(): Promise<void> {
    await this.nbd?.close();
    await closeServer(this.server);
    for (const estate of this.estates.values()) estate.close();
  }

  private exported(device: BlockDevice, of: string): string {
    const name = randomBytes(24).toString("base64url");
    this.exports.set(name, { device, of });
    return name;
  }
  private withdraw(of: string): void {
    for (const [name, one] of this.exports) if (one.of === of) this.exports.delete(name);
  }
  private get nbdAt() {
    return this.nbd!.at as { host: string; port: number };
  }

  private async answer(request: IncomingMessage, response: ServerResponse): Promise<void> {
    const url = new URL(request.url ?? "/", "http://host");
    const [, name = "", ...path] = url.pathname.split("/").map(decodeURIComponent);
    const json = (status: number, body: unknown) => {
      response.writeHead(status, { "content-type": "application/json", "cache-control": "no-store" });
      response.end(JSON.stringify(body));
    };
    const estate = this.estates.get(name);
    if (!estate) throw new Refusal(404, "Nothing is here.");
    if (request.headers.authorization !== `Bearer ${estate.token}`)
      return json(401, { status: 401, detail: "The token is not accepted." });
    const body = await bodyOf(request);
    const route = `${request.method} /${path.map((part, i) => (i % 2 === 1 ? "*" : part)).join("/")}`;
    const id = path[1] ?? "";
    switch (route) {
      case "GET /host":
        return json(200, { software: estate.software });
      case "GET /guests":
        return json(200, { items: estate.guests.map(shown) });
      case "POST /guests/*/snapshots": {
        const { owner, since } = parsed(snapshotBody, body);
        const guest = estate.guest(id);
        const held = estate.snapshot(id, owner, since);
        return json(201, {
          id: held.id,
          guest: shown(guest),
          definition: guest.definition,
          checkpoint: held.checkpoint,
          reset: held.reset,
          notQuiesced: !guest.running || guest.agent ? null : "no guest agent answers",
          bitmap: BITMAP,
          nbd: this.nbdAt,
          disks: guest.disks.map((disk) => ({
            name: disk.name,
            size: disk.size,
            export: this.exported(held.disks.get(disk.name)!, held.id),
          })),
        });
      }
      case "DELETE /snapshots/*":
        estate.endSnapshot(id);
        this.withdraw(id);
        return json(200, {});
      case "POST /guests": {
        const { replaces, ...facts } = parsed(guestBody, body);
        const guest = estate.stage({ ...facts, path: [] }, replaces);
        return json(201, {
          id: guest.id,
          nbd: this.nbdAt,
          disks: guest.disks.map((disk) => ({
            name: disk.name,
            size: disk.size,
            export: this.exported(estate.disk(guest.id, disk.name), guest.id),
          })),
        });
      }
      case "POST /guests/*/completion":
        this.withdraw(id);
        return json(200, { kept: estate.complete(id) });
      case "POST /guests/*/power":
        estate.power(id, parsed(powerBody, body).on);
        return json(200, shown(estate.guest(id)));
      case "DELETE /guests/*":
        this.withdraw(id);
        estate.remove(id);
        return json(200, {});
      default:
        throw new Refusal(404, `${request.method} ${url.pathname} is no call of the host API.`);
    }
  }
}

function parsed<T>(schema: z.ZodType<T>, body: unknown): T {
  const result = schema.safeParse(body);
  if (result.success) return result.data;
  throw new Refusal(409, `The request is not complete: ${result.error.issues[0]?.path.join(".")}.`);
}

async function bodyOf(request: IncomingMessage): Promise<unknown> {
  const parts: Buffer[] = [];
  let length = 0;
  for await (const part of request) {
    length += (part as Buffer).length;
    if (length > BODY_BYTES) throw new Refusal(409, "The request is too long.");
    parts.push(part as Buffer);
  }
  return length ? JSON.parse(Buffer.concat(parts).toString("utf8")) : {};
}
