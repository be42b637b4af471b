import { type ChildProcess, execFileSync, spawn } from "node:child_process";
import { once } from "node:events";
import { chmodSync, existsSync, mkdirSync, mkdtempSync, readFileSync, rmSync, writeFileSync } from "node:fs";
import { connect, type Socket } from "node:net";
import { hostname, tmpdir } from "node:os";
import { join } from "node:path";
import { freePort } from "@/operate/cluster";
import { until } from "./test-console";

/** A mail server that nobody here wrote: Cyrus, from Debian's packages (cyrus-imapd, cyrus-caldav, sasl2-bin), on loopback. */

const BIN = "/usr/lib/cyrus/bin";
const ADMIN_PASSWORD = "harbour-master";
const isRoot = process.getuid?.() === 0;

/** Why it cannot run here; null where it can. In CI it must. */
export function whyNoCyrus(): string | null {
  const missing = [`${BIN}/master`, `${BIN}/httpd`, "/usr/sbin/saslpasswd2"].filter(
    (file) => !existsSync(file),
  );
  const why = missing.length
    ? `missing: ${missing.join(", ")} (packages cyrus-imapd, cyrus-caldav, sasl2-bin)`
    : isRoot || canSudo()
      ? null
      : "it runs as the account cyrus, which takes root or sudo";
  if (why && process.env.CI) throw new Error(`Cyrus must run in CI; ${why}`);
  return why;
}
function canSudo(): boolean {
  try {
    execFileSync("sudo", ["-n", "true"], { stdio: "ignore" });
    return true;
  } catch {
    return false;
  }
}
/** A command as the account of the server, or as root. */
const as = (account: "cyrus" | "root", command: string, args: readonly string[]): [string, string[]] => {
  const own = account === "cyrus" ? ["setpriv", "--reuid=cyrus", "--regid=mail", "--init-groups"] : [];
  const all = [...(isRoot ? [] : ["sudo", "-n"]), ...own, command, ...args];
  return [all[0]!, all.slice(1)];
};

export interface AppendedMessage {
  readonly folder: string;
  readonly bytes: Buffer;
  /** INTERNALDATE (RFC 3501): `01-Nov-2026 08:00:00 +0000`. */
  readonly received: string;
  readonly flags?: string;
}

export class Cyrus {
  private constructor(
    private readonly folder: string,
    readonly httpPort: number,
    readonly imapPort: number,
    private readonly master: ChildProcess,
  ) {}

  readonly address = (): string => `http://127.0.0.1:${this.httpPort}`;

  static async start(users: Readonly<Record<string, string>>): Promise<Cyrus> {
    const folder = mkdtempSync(join(tmpdir(), "deep-keep-cyrus-"));
    const [httpPort, imapPort] = [await freePort(), await freePort()];
    for (const name of ["conf", "mail", "run"]) mkdirSync(join(folder, name));
    const config = join(folder, "imapd.conf");
    writeFileSync(
      config,
      [
        `configdirectory: ${folder}/conf`,
        `partition-default: ${folder}/mail`,
        `proc_path: ${folder}/run/proc`,
        `mboxname_lockpath: ${folder}/run/lock`,
        `sasl_sasldb_path: ${folder}/conf/sasldb2`,
        "defaultpartition: default",
        "admins: cyrus",
        "altnamespace: yes",
        "unixhierarchysep: yes",
        "sasl_pwcheck_method: auxprop",
        "sasl_auxprop_plugin: sasldb",
        "sasl_mech_list: PLAIN LOGIN",
        "allowplaintext: yes",
        "httpmodules: jmap caldav carddav",
        "conversations: yes",
        "autocreate_quota: 1000000",
        "autocreate_inbox_folders: Sent|Drafts|Junk|Trash",
        "",
      ].join("\n"),
    );
    writeFileSync(
      join(folder, "cyrus.conf"),
      `START {\n}\nSERVICES {\n  http cmd="${BIN}/httpd -C ${config}" listen="127.0.0.1:${httpPort}" prefork=1\n  imap cmd="${BIN}/imapd -C ${config}" listen="127.0.0.1:${imapPort}" prefork=1\n}\nEVENTS {\n}\n`,
    );
    chmodSync(folder, 0o755);
    for (const [user, password] of Object.entries({ ...users, cyrus: ADMIN_PASSWORD })) {
      const args = ["-f", `${folder}/conf/sasldb2`, "-u", hostname(), "-c", "-p", user];
      execFileSync(...as("root", "/usr/sbin/saslpasswd2", args), { input: password });
    }
    execFileSync(...as("root", "chown", ["-R", "cyrus:mail", folder]));
    execFileSync(...as("cyrus", `${BIN}/ctl_cyrusdb`, ["-C", config, "-r"]), { stdio: "ignore" });
    const args = ["-C", config, "-M", join(folder, "cyrus.conf"), "-p", join(folder, "run/pid"), "-D"];
    const master = spawn(...as("cyrus", `${BIN}/master`, args), {
      stdio: "ignore",
      // its end ends its whole process group
      detached: true,
    });
    const made = new Cyrus(folder, httpPort, imapPort, master);
    await until(
      async () => (await fetch(`${made.address()}/.well-known/jmap`, { redirect: "manual" })).status > 0,
      "Cyrus does not answer",
      30_000,
    );
    // signing in makes the mailbox
    for (const [user, password] of Object.entries(users)) await (await made.imap(user, password)).end();
    return made;
  }

  imap(user: string, password: string): Promise<ImapLine> {
    return ImapLine.open(this.imapPort, user, password);
  }

  /** Limits a mailbox to so many kilobytes. */
  async setQuota(user: string, kilobytes: number): Promise<void> {
    const admin = await this.imap("cyrus", ADMIN_PASSWORD);
    await admin.do(`SETQUOTA user/${user} (STORAGE ${kilobytes})`);
    await admin.end();
  }

  async stop(): Promise<void> {
    const pid = readFileSync(join(this.folder, "run/pid"), "utf8").trim();
    const ended = new Promise((resolve) => this.master.once("exit", resolve));
    execFileSync(...as("root", "kill", [pid]));
    await ended;
    if (isRoot) rmSync(this.folder, { recursive: true, force: true });
    else execFileSync(...as("root", "rm", ["-rf", this.folder]));
  }
}

/** Just enough IMAP (RFC 3501) to fill and change a mailbox. */
export class ImapLine {
  private text = "";
  private tag = 0;
  private wake: () => void = () => {};

  private constructor(private readonly socket: Socket) {
    socket.on("data", (part) => {
      this.text += part.toString("latin1");
      this.wake();
    });
  }

  static async open(port: number, user: string, password: string): Promise<ImapLine> {
    const socket = connect(port, "127.0.0.1");
    await once(socket, "connect");
    const line = new ImapLine(socket);
    await line.hear(/^\* OK/m);
    await line.do(`LOGIN ${user} ${password}`);
    return line;
  }

  private async hear(pattern: RegExp): Promise<string> {
    for (;;) {
      if (pattern.test(this.text)) {
        const said = this.text;
        this.text = "";
        return said;
      }
      await new Promise<void>((resolve) => {
        this.wake = resolve;
      });
    }
  }

  async do(command: string, literal?: Buffer): Promise<string> {
    this.tag += 1;
    const tag = `a${this.tag}`;
    this.socket.write(`${tag} ${command}\r\n`);
    if (literal) {
      await this.hear(/^\+/m);
      this.socket.write(Buffer.concat([literal, Buffer.from("\r\n")]));
    }
    const said = await this.hear(new RegExp(`^${tag} (OK|NO|BAD)`, "m"));
    if (!new RegExp(`^${tag} OK`, "m").test(said)) throw new Error(`${command}: ${said}`);
    return said;
  }

  append({ folder, bytes, received, flags = "" }: AppendedMessage): Promise<string> {
    return this.do(`APPEND "${folder}" (${flags}) "${received}" {${bytes.length}}`, bytes);
  }

  async end(): Promise<void> {
    await this.do("LOGOUT");
    this.socket.destroy();
  }
}
