import { type ChildProcess, spawn } from "node:child_process";
import { mkdtempSync, rmSync, writeFileSync } from "node:fs";
import { connect as connectSocket } from "node:net";
import { tmpdir } from "node:os";
import { join } from "node:path";
import type { Readable, Writable } from "node:stream";
import { rootCertificates } from "node:tls";
import pg from "pg";
import { CodedError } from "@/core/codes";
import { allowedAddress } from "@/store/places/reach";
import type { OpenConnection } from "../connection-base";
import { serverOf } from "./connecting";
import type { Programs } from "./programs";
import type { DatabaseSettings } from "./settings";

const PATIENCE_MS = 15_000;
/** The end of what a program says on its error output is told; so much of it is held. */
const SAID_MOST = 64 * 1024;

/** The reasons of a failure to connect, by what node-postgres and the server say. */
function connectError(error: unknown, host: string, port: number): CodedError {
  const { code, message } = error as { code?: string; message: string };
  if (code === "28P01" || code === "28000") return new CodedError("source.signin-refused", message);
  if (code === "3D000" || code === "42501" || code === "55000" || code === "53300")
    return new CodedError("source.not-allowed", message);
  if (/certificate|SSL|TLS|self.signed/i.test(`${code} ${message}`))
    return new CodedError("source.tls", message);
  const plain = { ECONNREFUSED: "nothing listens on that port", ENOTFOUND: "no such name" }[code ?? ""];
  return new CodedError("source.not-reached", `${host}:${port}: ${plain ?? message}`);
}

export interface Ran {
  readonly child: ChildProcess;
  readonly stdout: Readable;
  readonly stdin: Writable;
  /** How it ended, and what it said on its error output. */
  readonly done: Promise<Done>;
  /** Rejects with `source.dump-failed` and its own words where it failed. */
  readonly ended: Promise<void>;
}
export interface Done {
  readonly ok: boolean;
  readonly said: string;
  /** Exit status or signal. */
  readonly how: string;
}

/** A PostgreSQL server: sessions by its protocol, and its own programs. */
export class DatabaseServer {
  readonly host: string;
  readonly port: number;
  /** The database that is opened for what concerns the whole server. */
  readonly maintenance: string;

  constructor(private readonly connection: OpenConnection<DatabaseSettings>) {
    ({ host: this.host, port: this.port } = serverOf(connection.address));
    this.maintenance = connection.settings.maintenance;
  }

  private async address(): Promise<string> {
    try {
      return await allowedAddress(this.host);
    } catch (error) {
      if (error instanceof CodedError) throw error;
      throw new CodedError("source.not-reached", `${this.host}: no such name`);
    }
  }

  /** Opens the port once. Throws `source.not-reached`. */
  async find(): Promise<void> {
    const address = await this.address();
    await new Promise<void>((resolve, reject) => {
      const socket = connectSocket({ host: address, port: this.port, timeout: PATIENCE_MS });
      const refuse = (error: Error) => {
        socket.destroy();
        reject(connectError(error, this.host, this.port));
      };
      socket
        .once("connect", () => {
          socket.end();
          resolve();
        })
        .once("timeout", () => refuse(new Error("no answer")))
        .once("error", refuse);
    });
  }

  /** A session with a database. Its errors after the connection broke are those of its queries. */
  async session(database = this.maintenance): Promise<pg.Client> {
    const { settings, secret } = this.connection;
    const client = new pg.Client({
      host: await this.address(),
      port: this.port,
      user: settings.user,
      password: secret,
      database,
      connectionTimeoutMillis: PATIENCE_MS,
      application_name: "deep-keep",
      keepAlive: true,
      ssl:
        settings.tls === "off"
          ? false
          : {
              rejectUnauthorized: settings.tls === "verify",
              servername: this.host,
              ...(settings.authority ? { ca: settings.authority } : {}),
            },
    });
    client.on("error", () => {});
    try {
      await client.connect();
      return client;
    } catch (error) {
      await client.end().catch(() => {});
      throw connectError(error, this.host, this.port);
    }
  }

  /** Works in a session and ends it. */
  async with<T>(database: string | undefined, work: (session: pg.Client) => Promise<T>): Promise<T> {
    const session = await this.session(database);
    try {
      return await work(session);
    } finally {
      await session.end().catch(() => {});
    }
  }

  /** A folder with what the programs need to sign in, readable by this account alone; to be removed by `Way.end`. */
  async way(): Promise<Way> {
    const { settings, secret } = this.connection;
    const folder = mkdtempSync(join(tmpdir(), "deep-keep-database-"));
    const escaped = (text: string) => text.replaceAll(/[\\:]/g, "\\$&");
    writeFileSync(join(folder, "pass"), `*:*:*:${escaped(settings.user)}:${escaped(secret)}\n`, {
      mode: 0o600,
    });
    writeFileSync(join(folder, "authorities"), settings.authority ?? rootCertificates.join("\n"), {
      mode: 0o600,
    });
    return new Way(folder, {
      PATH: "/usr/bin:/bin",
      LC_ALL: "C",
      HOME: folder,
      PGHOST: this.host,
      PGHOSTADDR: await this.address(),
      PGPORT: String(this.port),
      PGUSER: settings.user,
      PGPASSFILE: join(folder, "pass"),
      PGSSLMODE: { verify: "verify-full", encrypt: "require", off: "disable" }[settings.tls],
      PGSSLROOTCERT: join(folder, "authorities"),
      PGCONNECT_TIMEOUT: String(PATIENCE_MS / 1000),
    });
  }
}

/** How the programs reach a server. */
export class Way {
  private readonly running = new Set<ChildProcess>();

  constructor(
    private readonly folder: string,
    private readonly env: Readonly<Record<string, string>>,
  ) {}

  /** Starts one of PostgreSQL's programs. */
  run(programs: Programs, name: string, args: readonly string[]): Ran {
    const ran = runProgram(join(programs.folder, name), args, {
      ...this.env,
      PGAPPNAME: `deep-keep ${name}`,
    });
    this.running.add(ran.child);
    ran.ended.catch(() => {}).finally(() => this.running.delete(ran.child));
    return ran;
  }

  /** Ends what still runs, and removes the folder. */
  end(): void {
    for (const child of this.running) child.kill("SIGTERM");
    rmSync(this.folder, { recursive: true, force: true });
  }
}

/** Starts a program and collects what it says. */
export function runProgram(
  path: string,
  args: readonly string[],
  env: Readonly<Record<string, string>>,
): Ran {
  const child = spawn(path, args, { env: env as NodeJS.ProcessEnv, stdio: ["pipe", "pipe", "pipe"] });
  let said = "";
  child.stderr.setEncoding("utf8").on("data", (text: string) => {
    said = (said + text).slice(-SAID_MOST);
  });
  // its end says why it no longer reads
  child.stdin.on("error", () => {});
  const name = path.slice(path.lastIndexOf("/") + 1);
  const done = new Promise<Done>((resolve, reject) => {
    child.once("error", (error) => reject(new CodedError("source.dump-failed", `${name}: ${error.message}`)));
    child.once("close", (code, signal) => resolve({ ok: code === 0, said, how: String(code ?? signal) }));
  });
  const ended = done.then(({ ok, how }) => {
    if (!ok)
      throw new CodedError("source.dump-failed", `${name}: ${lastWords(said) || `it ended with ${how}`}`);
  });
  ended.catch(() => {});
  return { child, stdout: child.stdout, stdin: child.stdin, done, ended };
}

/** The last lines of what a program said, without its name. */
export const lastWords = (said: string): string =>
  said
    .split("\n")
    .map((line) => line.replace(/^pg_\w+: (error: )?/, "").trim())
    .filter(Boolean)
    .slice(-6)
    .join("; ")
    .slice(0, 1000);
