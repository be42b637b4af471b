import { type ChildProcess, spawn } from "node:child_process";
import { once } from "node:events";
import { existsSync, mkdirSync, mkdtempSync, rmSync, writeFileSync } from "node:fs";
import { tmpdir } from "node:os";
import { join } from "node:path";
import { freePort } from "@/operate/cluster";
import { until } from "./test-console";

/** A CalDAV and CardDAV server that nobody here wrote: Radicale, from Debian's package, on loopback. */

const PROGRAM = "/usr/bin/radicale";

/** Why it cannot run here; null where it can. In CI it must. */
export function whyNoRadicale(): string | null {
  const why = existsSync(PROGRAM) ? null : `missing: ${PROGRAM} (package radicale)`;
  if (why && process.env.CI) throw new Error(`Radicale must run in CI; ${why}`);
  return why;
}

const basic = (user: string, password: string): string =>
  `Basic ${Buffer.from(`${user}:${password}`).toString("base64")}`;

export class Radicale {
  private constructor(
    private readonly folder: string,
    readonly port: number,
    private readonly program: ChildProcess,
    private readonly users: Readonly<Record<string, string>>,
  ) {}

  readonly address = (): string => `http://127.0.0.1:${this.port}`;

  static async start(users: Readonly<Record<string, string>>): Promise<Radicale> {
    const folder = mkdtempSync(join(tmpdir(), "deep-keep-radicale-"));
    const port = await freePort();
    mkdirSync(join(folder, "store"));
    writeFileSync(
      join(folder, "users"),
      Object.entries(users)
        .map(([user, password]) => `${user}:${password}\n`)
        .join(""),
    );
    writeFileSync(
      join(folder, "config"),
      `[server]\nhosts = 127.0.0.1:${port}\n[auth]\ntype = htpasswd\nhtpasswd_filename = ${folder}/users\nhtpasswd_encryption = plain\ndelay = 0\n[storage]\nfilesystem_folder = ${folder}/store\n`,
    );
    const program = spawn(PROGRAM, ["--config", join(folder, "config")], { stdio: "ignore" });
    const made = new Radicale(folder, port, program, users);
    await until(
      async () => (await fetch(made.address(), { redirect: "manual" }).catch(() => null)) !== null,
      "Radicale does not answer",
      20_000,
    );
    return made;
  }

  /** Asks by plain HTTP, past our own client. */
  ask(
    user: string,
    method: string,
    path: string,
    body?: string,
    headers: Record<string, string> = {},
  ): Promise<Response> {
    return fetch(`${this.address()}${path}`, {
      method,
      headers: { authorization: basic(user, this.users[user]!), ...headers },
      ...(body === undefined ? {} : { body }),
    });
  }

  async make(user: string, kind: "calendar" | "addressbook", path: string, name: string): Promise<void> {
    const type =
      kind === "calendar"
        ? '<c:calendar xmlns:c="urn:ietf:params:xml:ns:caldav"/>'
        : '<c:addressbook xmlns:c="urn:ietf:params:xml:ns:carddav"/>';
    const answer = await this.ask(
      user,
      "MKCOL",
      `/${user}/${path}/`,
      `<?xml version="1.0"?><mkcol xmlns="DAV:"><set><prop><resourcetype><collection/>${type}</resourcetype><displayname>${name}</displayname></prop></set></mkcol>`,
    );
    if (answer.status !== 201) throw new Error(`MKCOL: ${answer.status} ${await answer.text()}`);
  }

  async put(user: string, path: string, text: string): Promise<void> {
    const type = path.endsWith(".ics") ? "text/calendar" : "text/vcard";
    const answer = await this.ask(user, "PUT", `/${user}/${path}`, text, { "content-type": type });
    if (answer.status >= 300) throw new Error(`PUT: ${answer.status} ${await answer.text()}`);
  }

  async stop(): Promise<void> {
    const ended = once(this.program, "exit");
    this.program.kill("SIGTERM");
    await ended;
    rmSync(this.folder, { recursive: true, force: true });
  }
}

const crlf = (lines: readonly string[]): string => `${lines.join("\r\n")}\r\n`;
/** An event as a calendar program writes it. */
export const eventOf = (uid: string, summary: string, start: string, more: readonly string[] = []): string =>
  crlf([
    "BEGIN:VCALENDAR",
    "VERSION:2.0",
    "PRODID:-//Lanternfold//Harbour calendar 1.0//EN",
    "BEGIN:VEVENT",
    `UID:${uid}`,
    "DTSTAMP:20261101T080000Z",
    `DTSTART:${start}`,
    "DURATION:PT1H",
    `SUMMARY:${summary}`,
    ...more,
    "END:VEVENT",
    "END:VCALENDAR",
  ]);
export const cardOf = (uid: string, name: string, more: readonly string[] = []): string =>
  crlf([
    "BEGIN:VCARD",
    "VERSION:3.0",
    `UID:${uid}`,
    `FN:${name}`,
    `N:${name.split(" ").reverse().join(";")};;;`,
    ...more,
    "END:VCARD",
  ]);
