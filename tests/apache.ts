import { type ChildProcess, execFileSync, spawn } from "node:child_process";
import { once } from "node:events";
import { chmodSync, existsSync, mkdirSync, mkdtempSync, rmSync, writeFileSync } from "node:fs";
import { tmpdir } from "node:os";
import { join } from "node:path";
import { freePort } from "@/operate/cluster";
import { until } from "./test-console";

/** A WebDAV server that nobody here wrote: Apache with mod_dav, from Debian's package, on loopback. */

const PROGRAM = "/usr/sbin/apache2";
const MODULES = "/usr/lib/apache2/modules";

/** Why it cannot run here; null where it can. In CI it must. */
export function whyNoApache(): string | null {
  const why = existsSync(PROGRAM) ? null : `missing: ${PROGRAM} (package apache2-bin)`;
  if (why && process.env.CI) throw new Error(`Apache must run in CI; ${why}`);
  return why;
}

export class Apache {
  private constructor(
    private readonly folder: string,
    readonly port: number,
    private readonly program: ChildProcess,
  ) {}

  /** Libraries are below this address, and files below this folder. */
  readonly address = (): string => `http://127.0.0.1:${this.port}/dav/`;
  get files(): string {
    return join(this.folder, "site/dav");
  }

  static async start(user: string, password: string): Promise<Apache> {
    const folder = mkdtempSync(join(tmpdir(), "deep-keep-apache-"));
    const port = await freePort();
    for (const name of ["site", "site/dav", "lock", "run"]) mkdirSync(join(folder, name));
    const hash = execFileSync("openssl", ["passwd", "-apr1", password], { encoding: "utf8" }).trim();
    writeFileSync(join(folder, "users"), `${user}:${hash}\n`);
    const isRoot = process.getuid?.() === 0;
    const modules = [
      "mpm_event",
      "authn_core",
      "authn_file",
      "auth_basic",
      "authz_core",
      "authz_user",
      "dav",
      "dav_fs",
    ];
    writeFileSync(
      join(folder, "apache.conf"),
      [
        `ServerRoot ${folder}`,
        `PidFile ${folder}/run/pid`,
        `DefaultRuntimeDir ${folder}/run`,
        `Mutex file:${folder}/run default`,
        `ErrorLog ${folder}/errors.log`,
        `Listen 127.0.0.1:${port}`,
        "ServerName 127.0.0.1",
        ...modules.map((name) => `LoadModule ${name}_module ${MODULES}/mod_${name}.so`),
        ...(isRoot ? ["User nobody", "Group nogroup"] : []),
        `DocumentRoot ${folder}/site`,
        `DavLockDB ${folder}/lock/db`,
        "LimitRequestFieldSize 32768",
        `<Directory ${folder}/site/dav>`,
        "  Dav On",
        "  AuthType Basic",
        "  AuthName Library",
        `  AuthUserFile ${folder}/users`,
        "  Require valid-user",
        "</Directory>",
      ].join("\n"),
    );
    if (isRoot) execFileSync("chown", ["-R", "nobody:nogroup", folder]);
    chmodSync(folder, 0o755);
    const program = spawn(PROGRAM, ["-f", join(folder, "apache.conf"), "-D", "FOREGROUND"], {
      stdio: "ignore",
    });
    const made = new Apache(folder, port, program);
    await until(
      async () => (await fetch(made.address(), { redirect: "manual" }).catch(() => null)) !== null,
      "Apache does not answer",
      20_000,
    );
    return made;
  }

  /** Lets the server write what a test put there. */
  own(): void {
    if (process.getuid?.() === 0) execFileSync("chown", ["-R", "nobody:nogroup", this.files]);
  }

  async stop(): Promise<void> {
    const ended = once(this.program, "exit");
    this.program.kill("SIGTERM");
    await ended;
    rmSync(this.folder, { recursive: true, force: true });
  }
}
