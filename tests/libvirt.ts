import { type ChildProcess, execFile, execFileSync, spawn } from "node:child_process";
import {
  chmodSync,
  chownSync,
  existsSync,
  mkdirSync,
  mkdtempSync,
  readdirSync,
  readFileSync,
  rmSync,
  writeFileSync,
} from "node:fs";
import { join } from "node:path";
import { promisify } from "node:util";
import { until } from "./test-console";

/** A hypervisor host that nobody here wrote: libvirt with QEMU, from Debian's packages, for an ordinary account. */

const DAEMON = "/usr/sbin/libvirtd";
const NOBODY = 65534;

/** Why it cannot run here; null where it can. In CI it must. */
export function whyNoLibvirt(): string | null {
  const missing = [DAEMON, "/usr/bin/virsh", "/usr/bin/qemu-system-x86_64", "/usr/bin/qemu-img"].filter(
    (path) => !existsSync(path),
  );
  const why = missing.length
    ? `missing: ${missing.join(", ")} (packages libvirt-daemon, libvirt-daemon-driver-qemu, libvirt-clients, qemu-system-x86, qemu-utils)`
    : null;
  if (why && process.env.CI) throw new Error(`libvirt must run in CI; ${why}`);
  return why;
}

/**
 * The first sector of a disk whose guest says “guest is up” on its serial port, and then writes a counter into one sector
 * after another from 4 MiB on, eighteen times a second.
 */
export function bootSector(): Buffer {
  const sector = Buffer.alloc(512);
  const message = 0x7c39;
  const packet = 0x7c60;
  const low = (value: number) => value & 0xff;
  const high = (value: number) => value >> 8;
  Buffer.from([
    // cli; segments and stack; sti
    0xfa,
    0x31,
    0xc0,
    0x8e,
    0xd8,
    0x8e,
    0xc0,
    0x8e,
    0xd0,
    0xbc,
    0x00,
    0x7c,
    0xfb,
    // each character of the message to the serial port
    0xbe,
    low(message),
    high(message),
    0xac,
    0x08,
    0xc0,
    0x74,
    0x06,
    0xba,
    0xf8,
    0x03,
    0xee,
    0xeb,
    0xf5,
    // count; write the sector (int 13h, extended write)
    0x66,
    0xff,
    0x06,
    0x00,
    0x80,
    0xbe,
    low(packet),
    high(packet),
    0xb4,
    0x43,
    0xb0,
    0x00,
    0xb2,
    0x80,
    0xcd,
    0x13,
    // the next of 64 sectors; wait for the clock; again
    0x66,
    0xff,
    0x06,
    low(packet + 8),
    high(packet + 8),
    0x80,
    0x26,
    low(packet + 8),
    high(packet + 8),
    0x3f,
    0xfb,
    0xf4,
    0xeb,
    0xe2,
  ]).copy(sector, 0);
  sector.write("guest is up\r\n\0", message - 0x7c00, "latin1");
  // one sector, from 0000:8000, to 8192 and on
  Buffer.from([0x10, 0, 1, 0, 0, 0x80, 0, 0, 0, 0x20, 0, 0, 0, 0, 0, 0]).copy(sector, packet - 0x7c00);
  sector.writeUInt16LE(0xaa55, 510);
  return sector;
}

export class Libvirt {
  private constructor(
    readonly folder: string,
    private readonly daemon: ChildProcess,
  ) {}

  get address(): string {
    return `qemu+unix:///session?socket=${this.folder}/run/libvirt/libvirt-sock`;
  }
  readonly disks = (): string => join(this.folder, "disks");

  static async start(): Promise<Libvirt> {
    // the paths of its sockets must be short
    const folder = mkdtempSync("/tmp/deep-keep-v-");
    // the operator of this machine allows it
    process.env.DEEPKEEP_LOCAL_HYPERVISOR = "yes";
    for (const name of ["run", "config", "cache", "data", "disks"]) mkdirSync(join(folder, name));
    const isRoot = process.getuid?.() === 0;
    if (isRoot)
      for (const name of ["", "run", "config", "cache", "data", "disks"])
        chownSync(join(folder, name), NOBODY, NOBODY);
    chmodSync(folder, 0o755);
    const env = {
      PATH: "/usr/sbin:/usr/bin:/sbin:/bin",
      HOME: folder,
      XDG_RUNTIME_DIR: join(folder, "run"),
      XDG_CONFIG_HOME: join(folder, "config"),
      XDG_CACHE_HOME: join(folder, "cache"),
      XDG_DATA_HOME: join(folder, "data"),
    };
    const [command, ...args] = isRoot
      ? ["setpriv", `--reuid=${NOBODY}`, `--regid=${NOBODY}`, "--clear-groups", DAEMON]
      : [DAEMON];
    const daemon = spawn(command!, args, { env: env as unknown as NodeJS.ProcessEnv, stdio: "ignore" });
    const made = new Libvirt(folder, daemon);
    await until(async () => made.tried("version") !== null, "libvirtd does not answer", 30_000);
    made.virsh("pool-define-as", "disks", "dir", "--target", made.disks());
    made.virsh("pool-start", "disks");
    return made;
  }

  virsh(...args: string[]): string {
    return execFileSync("virsh", ["--quiet", "--connect", this.address, ...args], {
      encoding: "utf8",
      stdio: ["ignore", "pipe", "pipe"],
    }).trim();
  }
  tried(...args: string[]): string | null {
    try {
      return this.virsh(...args);
    } catch {
      return null;
    }
  }

  /** A disk image with content at places. */
  image(
    name: string,
    format: "qcow2" | "raw",
    size: string,
    content: readonly (readonly [offset: number, bytes: Buffer])[],
  ): string {
    const path = join(this.disks(), name);
    execFileSync("qemu-img", ["create", "-q", "-f", format, path, size]);
    for (const [offset, bytes] of content) this.write(path, format, offset, bytes);
    if (process.getuid?.() === 0) chownSync(path, NOBODY, NOBODY);
    return path;
  }

  /** Writes into an image that no guest uses; its bitmaps follow. */
  write(path: string, format: "qcow2" | "raw", offset: number, bytes: Buffer): void {
    const from = join(this.folder, "content");
    writeFileSync(from, bytes);
    execFileSync("qemu-io", ["-f", format, "-c", `write -s ${from} ${offset} ${bytes.length}`, path], {
      stdio: "ignore",
    });
  }

  /** Defines a guest of 32 MiB; what its serial port says goes to a file. */
  define(name: string, disks: readonly { path: string; format: string }[]): string {
    const xml = `<domain type='qemu'><name>${name}</name><memory unit='MiB'>32</memory><vcpu>1</vcpu>
      <os><type arch='x86_64' machine='pc'>hvm</type><boot dev='hd'/></os>
      <devices>${disks
        .map(
          ({ path, format }, i) =>
            `<disk type='file' device='disk'><driver name='qemu' type='${format}'/><source file='${path}'/><target dev='vd${"abc"[i]}' bus='virtio'/></disk>`,
        )
        .join(
          "",
        )}<serial type='file'><source path='${this.folder}/data/${name}.log'/></serial></devices></domain>`;
    const file = join(this.folder, `${name}.xml`);
    writeFileSync(file, xml);
    this.virsh("define", file);
    return this.virsh("domuuid", name);
  }

  /** What a guest of the name said on its serial port. */
  said(name: string): string {
    const path = join(this.folder, "data", `${name}.log`);
    return existsSync(path) ? readFileSync(path, "latin1") : "";
  }

  /**
   * How often a guest has written to its first disk since it was started; a guest of `bootSector` never stops. It does not
   * block: the disk may be served by this process.
   */
  async writes(name: string): Promise<number> {
    const args = ["--quiet", "--connect", this.address, "domblkstat", name, "vda"];
    const { stdout } = await promisify(execFile)("virsh", args).catch(() => ({ stdout: "" }));
    return Number(/wr_req (\d+)/.exec(stdout)?.[1] ?? 0);
  }

  /** What of ours is on the host: files beside the disks, checkpoints of a guest. */
  leftovers(id: string): { files: string[]; checkpoints: string[] } {
    return {
      files: readdirSync(this.disks()).filter((name) => name.startsWith("deep-keep")),
      checkpoints: (this.tried("checkpoint-list", id, "--name") ?? "").split(/\s+/).filter(Boolean),
    };
  }

  /** Kills the program of a guest as nobody should. */
  kill(name: string): void {
    execFileSync("pkill", ["-KILL", "-f", `guest=${name},`]);
  }

  stop(): void {
    for (const name of (this.tried("list", "--name") ?? "").split(/\s+/).filter(Boolean))
      this.tried("destroy", name);
    this.daemon.kill();
    rmSync(this.folder, { recursive: true, force: true });
  }
}
