import { type ChildProcess, execFileSync, spawn } from "node:child_process";
import { existsSync, mkdirSync, mkdtempSync, rmSync, writeFileSync } from "node:fs";
import { tmpdir, userInfo } from "node:os";
import { join } from "node:path";
import { freePort } from "@/operate/cluster";
import { ImapLine } from "./cyrus";
import { until } from "./test-console";

/** An IMAP server that nobody here wrote, with a master user: Dovecot, from Debian's package dovecot-imapd, on loopback. */

const PROGRAM = "/usr/sbin/dovecot";
/** Unpacked there by bin/prepare: Debian does not install it beside Cyrus. */
const IMAP = join(process.cwd(), ".peers/dovecot-imapd/usr/lib/dovecot");

/** Why it cannot run here; null where it can. In CI it must. */
export function whyNoDovecot(): string | null {
  const missing = [PROGRAM, `${IMAP}/imap`].filter((file) => !existsSync(file));
  const why = missing.length ? `missing: ${missing.join(", ")} (packages dovecot-core, dovecot-imapd)` : null;
  if (why && process.env.CI) throw new Error(`Dovecot must run in CI; ${why}`);
  return why;
}

export class Dovecot {
  private constructor(
    private readonly folder: string,
    readonly port: number,
    private readonly program: ChildProcess,
  ) {}

  readonly address = (): string => `imap://127.0.0.1:${this.port}`;

  /** Users with their passwords, and a master user that signs in as `user*master`. */
  static async start(
    users: Readonly<Record<string, string>>,
    master: { readonly user: string; readonly password: string },
    quotaKilobytes = 1_000_000,
  ): Promise<Dovecot> {
    const folder = mkdtempSync(join(tmpdir(), "dovecot-"));
    for (const name of ["run", "state", "mail"]) mkdirSync(join(folder, name), { mode: 0o777 });
    const port = await freePort();
    const me = userInfo().username;
    const isRoot = process.getuid?.() === 0;
    const { uid, gid } = isRoot ? { uid: 65534, gid: 65534 } : userInfo();
    const line = ([user, password]: [string, string]) =>
      `${user}:{PLAIN}${password}:${uid}:${gid}::${folder}/mail/${user}::userdb_quota_rule=*:storage=${quotaKilobytes}K`;
    writeFileSync(join(folder, "users"), `${Object.entries(users).map(line).join("\n")}\n`);
    writeFileSync(join(folder, "masters"), `${master.user}:{PLAIN}${master.password}\n`);
    const config = join(folder, "dovecot.conf");
    writeFileSync(
      config,
      [
        "protocols = imap",
        `base_dir = ${folder}/run`,
        `state_dir = ${folder}/state`,
        `log_path = ${folder}/log`,
        "ssl = no",
        "disable_plaintext_auth = no",
        "auth_mechanisms = plain login",
        "auth_master_user_separator = *",
        `mail_location = maildir:${folder}/mail/%u`,
        "mail_plugins = quota",
        "first_valid_uid = 1",
        "first_valid_gid = 1",
        ...(isRoot ? [] : [`default_internal_user = ${me}`, `default_login_user = ${me}`]),
        "service anvil {\n  chroot =\n}",
        ...["imap", "imap-hibernate", "imap-urlauth", "imap-urlauth-login", "imap-urlauth-worker"].map(
          (name) => `service ${name} {\n  executable = ${IMAP}/${name}\n  chroot =\n}`,
        ),
        `service imap-login {\n  executable = ${IMAP}/imap-login\n  chroot =\n  inet_listener imap {\n    address = 127.0.0.1\n    port = ${port}\n  }\n  inet_listener imaps {\n    port = 0\n  }\n}`,
        "plugin {\n  quota = maildir:User quota\n}",
        `passdb {\n  driver = passwd-file\n  args = ${folder}/masters\n  master = yes\n  result_success = continue\n}`,
        `passdb {\n  driver = passwd-file\n  args = ${folder}/users\n}`,
        `userdb {\n  driver = passwd-file\n  args = ${folder}/users\n}`,
        "namespace inbox {\n  inbox = yes\n  separator = /\n  mailbox Sent {\n    special_use = \\Sent\n    auto = create\n  }\n  mailbox Trash {\n    special_use = \\Trash\n    auto = create\n  }\n}",
        "",
      ].join("\n"),
    );
    if (isRoot) execFileSync("chown", ["-R", `${uid}:${gid}`, join(folder, "mail")]);
    execFileSync("chmod", ["755", folder]);
    const program = spawn(PROGRAM, ["-F", "-c", config], { stdio: "ignore", detached: true });
    const made = new Dovecot(folder, port, program);
    await until(
      async () => {
        const [user, password] = Object.entries(users)[0]!;
        await (await made.imap(user, password)).end();
        return true;
      },
      "Dovecot does not answer",
      20_000,
    );
    return made;
  }

  imap(user: string, password: string): Promise<ImapLine> {
    return ImapLine.open(this.port, user, password);
  }

  async stop(): Promise<void> {
    const ended = new Promise((resolve) => this.program.once("exit", resolve));
    this.program.kill("SIGTERM");
    await ended;
    rmSync(this.folder, { recursive: true, force: true });
  }
}
