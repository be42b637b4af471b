import { appendFileSync, existsSync, mkdirSync, readFileSync } from "node:fs";
import { createServer, type IncomingMessage, type Server, type ServerResponse } from "node:http";
import { join } from "node:path";
import { Webhook } from "standardwebhooks";
import { closeServer, listenOnLoopback } from "../loopback";
import { readDrop } from "./mail-drop";

/** What a receiver took, and whether it was signed by who may send here. */
export interface Received {
  readonly id: string;
  readonly at: string;
  readonly body: unknown;
}

/** What Standard Webhooks proposes against messages that are sent again by others. */
const TOLERANCE_MS = 5 * 60_000;

const html = (text: string): string =>
  text.replace(/[&<>"]/g, (mark) => ({ "&": "&amp;", "<": "&lt;", ">": "&gt;", '"': "&quot;" })[mark]!);

/**
 * A ticket system's receiver of webhooks that checks their signatures (Standard Webhooks), and a page that shows what it
 * and the mail drop took.
 */
export class Receiver {
  private readonly server: Server;
  /** Answers that a test asks for, one for each of the next calls. */
  readonly refusals: number[] = [];

  constructor(
    private readonly folder: string,
    private readonly secret: () => string | null,
    private readonly mailFolder: string,
    private readonly now: () => Date = () => new Date(),
  ) {
    mkdirSync(folder, { recursive: true });
    this.server = createServer((request, response) => void this.answer(request, response));
  }

  listen = (port: number): Promise<string> => listenOnLoopback(this.server, port);
  close = (): Promise<void> => closeServer(this.server);

  get received(): Received[] {
    const file = join(this.folder, "received.jsonl");
    if (!existsSync(file)) return [];
    return readFileSync(file, "utf8")
      .split("\n")
      .filter(Boolean)
      .map((line) => JSON.parse(line) as Received);
  }

  private async answer(request: IncomingMessage, response: ServerResponse): Promise<void> {
    if (request.method === "GET") return this.page(response);
    const parts: Buffer[] = [];
    for await (const part of request) parts.push(part as Buffer);
    const body = Buffer.concat(parts).toString("utf8");
    const refusal = this.refusals.shift();
    if (refusal) return void response.writeHead(refusal).end();
    const id = String(request.headers["webhook-id"]);
    const sentAt = new Date(Number(request.headers["webhook-timestamp"]) * 1000);
    const secret = this.secret();
    const expected = secret && new Webhook(secret).sign(id, sentAt, body);
    if (!expected || !String(request.headers["webhook-signature"]).split(" ").includes(expected))
      return void response.writeHead(401).end("The signature does not fit.");
    if (Math.abs(this.now().getTime() - sentAt.getTime()) > TOLERANCE_MS)
      return void response.writeHead(401).end("This was signed at another time.");
    const taken: Received = { id, at: sentAt.toISOString(), body: JSON.parse(body) };
    // the same message twice is one: an answer of ours may have been lost
    if (!this.received.some((one) => one.id === taken.id))
      appendFileSync(join(this.folder, "received.jsonl"), `${JSON.stringify(taken)}\n`);
    response.writeHead(204).end();
  }

  private async page(response: ServerResponse): Promise<void> {
    const mails = existsSync(this.mailFolder) ? await readDrop(this.mailFolder) : [];
    const list = mails
      .reverse()
      .map(
        (mail) =>
          `<details><summary>${html(mail.date ?? "")} · to ${html(mail.to?.map((one) => one.address).join(", ") ?? "")} · <b>${html(mail.subject ?? "")}</b></summary><pre>${html(mail.text ?? "")}</pre></details>`,
      )
      .join("");
    const hooks = this.received
      .reverse()
      .map(
        (one) =>
          `<details><summary>${html(one.at)} · ${html(one.id)}</summary><pre>${html(JSON.stringify(one.body, null, 2))}</pre></details>`,
      )
      .join("");
    response
      .writeHead(200, { "content-type": "text/html; charset=utf-8" })
      .end(
        `<!doctype html><title>What was sent</title><body style="font:15px sans-serif;max-width:60rem;margin:2rem auto"><h1>Mail</h1>${list || "None yet."}<h1>Webhooks</h1>${hooks || "None yet."}`,
      );
  }
}
