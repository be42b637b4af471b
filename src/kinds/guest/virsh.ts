import { spawn } from "node:child_process";
import { mkdtempSync, rmSync, writeFileSync } from "node:fs";
import { tmpdir } from "node:os";
import { join } from "node:path";
import type { Readable } from "node:stream";
import { pipeline } from "node:stream/promises";
import { CodedError } from "@/core/codes";
import { allowedAddress } from "@/store/places/reach";

const PATIENCE_MS = 60_000;
const SAID_MOST = 64 * 1024;
/** A host that writes more does not describe guests. */
const WROTE_MOST = 64 * 1024 * 1024;

/** What `virsh` said when it failed. */
export class VirshFailed extends Error {}

/** The reasons of a failure to reach a host or sign in, by what `virsh` says. */
function reachError(said: string, host: string | null): CodedError | null {
  if (/authentication failed|Permission denied|access denied|Host key verification failed/i.test(said))
    return new CodedError("source.signin-refused", said);
  if (/certificate|TLS handshake|GNUTLS/i.test(said)) return new CodedError("source.tls", said);
  if (
    /failed to connect|unable to connect|Cannot recv data|Connection (refused|reset|timed out)|No route|resolve host/i.test(
      said,
    )
  )
    return new CodedError("source.not-reached", `${host ?? "this machine"}: ${said}`);
  return null;
}

/** libvirt's own program, with one address. Documents for it lie in a folder of its own until it is ended. */
export class Virsh {
  private folder: string | null = null;
  private documents = 0;

  constructor(
    private readonly uri: string,
    readonly host: string | null,
  ) {}

  /** What a command writes. Throws VirshFailed, or a CodedError where the host is not reached. */
  async ask(...args: readonly string[]): Promise<string> {
    return this.run(args, null, PATIENCE_MS);
  }

  /** The same; null where it fails for a reason of its own. */
  async tried(...args: readonly string[]): Promise<string | null> {
    try {
      return await this.ask(...args);
    } catch (error) {
      if (error instanceof VirshFailed) return null;
      throw error;
    }
  }

  /** Runs a command that reads a stream as the file `/dev/stdin`. */
  async feed(args: readonly string[], input: Readable, signal: AbortSignal): Promise<void> {
    await this.run(args, input, null, signal);
  }

  /** The path of a document for a command that reads a file. */
  document(xml: string): string {
    this.folder ??= mkdtempSync(join(tmpdir(), "deep-keep-libvirt-"));
    this.documents += 1;
    const path = join(this.folder, `${this.documents}.xml`);
    writeFileSync(path, xml, { mode: 0o600 });
    return path;
  }

  end(): void {
    if (this.folder) rmSync(this.folder, { recursive: true, force: true });
    this.folder = null;
  }

  private async run(
    args: readonly string[],
    input: Readable | null,
    patience: number | null,
    signal?: AbortSignal,
  ): Promise<string> {
    if (this.host) await this.allowed(this.host);
    const env = {
      PATH: "/usr/bin:/bin",
      LC_ALL: "C",
      HOME: process.env.HOME ?? "/",
      ...(process.env.SSH_AUTH_SOCK ? { SSH_AUTH_SOCK: process.env.SSH_AUTH_SOCK } : {}),
    };
    const command = ["virsh", "--quiet", "--connect", this.uri, ...args];
    // virsh opens its input by name, which takes a pipe of the system's own
    const [program, ...rest] = input ? ["/bin/sh", "-c", 'cat | "$@"', "sh", ...command] : command;
    const child = spawn(program!, rest, {
      env: env as unknown as NodeJS.ProcessEnv,
      stdio: [input ? "pipe" : "ignore", "pipe", "pipe"],
      ...(patience ? { timeout: patience, killSignal: "SIGKILL" as const } : {}),
    });
    let wrote = "";
    let said = "";
    child.stdout!.setEncoding("utf8").on("data", (text: string) => {
      wrote += text;
      if (wrote.length > WROTE_MOST) child.kill("SIGKILL");
    });
    child.stderr!.setEncoding("utf8").on("data", (text: string) => {
      said = (said + text).slice(-SAID_MOST);
    });
    const ended = new Promise<string>((resolve, reject) => {
      child.once("error", (error: NodeJS.ErrnoException) =>
        reject(
          error.code === "ENOENT"
            ? new CodedError(
                "source.program-missing",
                "virsh is not installed on the console's machine; install libvirt-clients",
              )
            : error,
        ),
      );
      child.once("close", (code, by) => resolve(code === 0 ? "" : (by ?? `status ${code}`)));
    });
    // a program that ended no longer reads; its end says why
    const fed = input
      ? pipeline(input, child.stdin!, signal ? { signal } : {}).catch((error: Error) => error)
      : null;
    const how = await ended;
    const broken = await fed;
    signal?.throwIfAborted();
    if (how === "") {
      // it takes the end of what it reads for the end of the content
      if (broken instanceof Error) throw broken;
      return wrote.trim();
    }
    if (broken instanceof CodedError) throw broken;
    const reason = said
      .replaceAll(/^error: /gm, "")
      .trim()
      .replaceAll(/\s*\n\s*/g, "; ");
    throw (
      reachError(reason, this.host) ??
      new VirshFailed(reason || `virsh ended with ${how === "SIGKILL" ? "no answer in time" : how}`)
    );
  }

  private async allowed(host: string): Promise<void> {
    try {
      await allowedAddress(host);
    } catch (error) {
      if (error instanceof CodedError) throw error;
      throw new CodedError("source.not-reached", `${host}: no such name`);
    }
  }
}
