import { mkdirSync, readdirSync, readFileSync, writeFileSync } from "node:fs";
import type { AddressInfo } from "node:net";
import { join } from "node:path";
import PostalMime, { type Email } from "postal-mime";
import { SMTPServer } from "smtp-server";

/** A mail server that takes everything (RFC 5321) and keeps each message as it came, one file each. */
export class MailDrop {
  private readonly server: SMTPServer;
  private next: number;
  /** Answers that a test asks for, one for each of the next messages: `452` for one, say. */
  readonly refusals: number[] = [];

  constructor(readonly folder: string) {
    mkdirSync(folder, { recursive: true });
    this.next = readdirSync(folder).length;
    this.server = new SMTPServer({
      authOptional: true,
      disabledCommands: ["STARTTLS"],
      onData: (stream, _session, done) => {
        const parts: Buffer[] = [];
        stream.on("data", (part: Buffer) => parts.push(part));
        stream.on("end", () => {
          const refusal = this.refusals.shift();
          if (refusal) return done(Object.assign(new Error("Not now"), { responseCode: refusal }));
          const name = `${String(this.next).padStart(6, "0")}.eml`;
          this.next += 1;
          writeFileSync(join(this.folder, name), Buffer.concat(parts));
          done();
        });
      },
    });
  }

  /** Returns the port. */
  listen(port: number): Promise<number> {
    return new Promise((resolve, reject) => {
      this.server.once("error", reject);
      this.server.listen(port, "127.0.0.1", () =>
        resolve((this.server.server.address() as AddressInfo).port),
      );
    });
  }

  close(): Promise<void> {
    return new Promise((resolve) => this.server.close(() => resolve()));
  }
}

/** The messages of a drop, the oldest first. */
export async function readDrop(folder: string): Promise<Email[]> {
  const names = readdirSync(folder)
    .filter((name) => name.endsWith(".eml"))
    .sort();
  return Promise.all(names.map((name) => PostalMime.parse(readFileSync(join(folder, name)))));
}
