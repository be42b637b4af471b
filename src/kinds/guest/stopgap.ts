import { randomBytes } from "node:crypto";
import { chmod, rm } from "node:fs/promises";
import { setTimeout as sleep } from "node:timers/promises";
import { CodedError } from "@/core/codes";
import type { BlockDevice } from "@/disks/device";
import { type Listening, serveNbd } from "@/disks/server";
import { storedDevice } from "@/disks/stored";
import type { StoredDisk } from "@/store/read/disk";
import type { DiskSource } from "./definition";
import type { Virsh } from "./virsh";

/**
 * A guest that runs straight from a depot: each disk is an empty image over the recovery point's disk, which the console
 * serves over NBD, and its data is copied into the image while the guest runs. Afterwards it needs the depot no more.
 */

const PAUSE_MS = 500;
/** A depot that is away for so long makes the guest wait; afterwards it gets an error. */
const PATIENCE_MS = 5 * 60_000;
const AGAIN_MS = 2000;

/** A device whose reads are repeated while the depot does not answer. */
export function patientDevice(
  device: BlockDevice,
  waits: (error: Error) => void,
  patience = PATIENCE_MS,
  again = AGAIN_MS,
): BlockDevice {
  return {
    size: device.size,
    readOnly: true,
    contexts: device.contexts,
    status: (context, offset, length) => device.status(context, offset, length),
    write: (offset, bytes) => device.write(offset, bytes),
    zero: (offset, length) => device.zero(offset, length),
    flush: () => device.flush(),
    async read(offset, length) {
      for (const began = Date.now(); ; await sleep(again))
        try {
          return await device.read(offset, length);
        } catch (error) {
          if (!passes(error) || Date.now() - began > patience) throw error;
          waits(error as Error);
        }
    },
  };
}
const PASSING: ReadonlySet<string> = new Set(["depot.not-reached", "service.unavailable", "internal.error"]);
/** What may pass by itself. A pack that is not there may be on a share that is away; one that is altered stays so. */
const passes = (error: unknown): boolean =>
  !(error instanceof CodedError) ||
  PASSING.has(error.code) ||
  (error.cause instanceof CodedError && error.cause.code === "not-found");

export class Stopgap {
  private server: Listening | null = null;
  private readonly names = new Map<string, string>();

  /** @param socket where the disks are served: a path that QEMU's account can reach */
  constructor(
    private readonly virsh: Virsh,
    private readonly socket: string,
    private readonly disks: readonly { readonly name: string; readonly stored: StoredDisk }[],
    private readonly log: (message: string) => void,
  ) {}

  /** Serves the disks under names that nobody can guess; says where each is. */
  async serve(): Promise<ReadonlyMap<string, DiskSource>> {
    // of a console that was killed
    await rm(this.socket, { force: true });
    for (const { name } of this.disks) this.names.set(randomBytes(24).toString("base64url"), name);
    let told = false;
    const waits = (error: Error) => {
      if (!told) this.log(`the guest waits for the depot: ${error.message}`);
      told = true;
    };
    this.server = await serveNbd(
      { path: this.socket },
      {
        names: () => [],
        open: async (name) => {
          const disk = this.disks.find((one) => one.name === this.names.get(name));
          return disk ? { device: patientDevice(storedDevice(disk.stored), waits), close: () => {} } : null;
        },
      },
    );
    // QEMU runs under another account; who knows no name gets nothing
    await chmod(this.socket, 0o666);
    return new Map([...this.names].map(([name, disk]) => [disk, { socket: this.socket, name }]));
  }

  /** Copies the data of all disks into their images while the guest runs. */
  async copy(guest: string, passed: (bytes: number) => void, signal: AbortSignal): Promise<void> {
    for (const { name } of this.disks) {
      await this.virsh.ask("blockpull", guest, name);
      for (let done = 0; ; await sleep(PAUSE_MS)) {
        signal.throwIfAborted();
        const job = await this.virsh.ask("blockjob", guest, name, "--raw");
        const now = Number(/cur=(\d+)/.exec(job)?.[1] ?? Number.NaN);
        if (Number.isNaN(now)) break;
        passed(Math.max(0, now - done));
        done = Math.max(done, now);
      }
    }
  }

  async end(): Promise<void> {
    await this.server?.close();
    await rm(this.socket, { force: true });
  }
}
