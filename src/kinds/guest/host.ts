import { z } from "zod";
import { CodedError } from "@/core/codes";
import type { BlockDevice } from "@/disks/device";
import type { StoredDisk } from "@/store/read/disk";

/** Names of disks become names of files and words of commands. */
const DISK_NAME = /^[A-Za-z0-9][A-Za-z0-9_.-]{0,63}$/;
export const diskNameSchema = z.string().regex(DISK_NAME, "a disk has a name that no disk can have");
export function checkedDiskName(name: string): string {
  if (!DISK_NAME.test(name))
    throw new CodedError(
      "source.unreadable",
      `a disk has the name ${JSON.stringify(name)}, which no disk can have`,
    );
  return name;
}
/** Bytes; larger disks are not believed. */
export const LARGEST_DISK = 64 * 2 ** 40;

/** A disk of a guest, by the name that its host has for it, such as `vda`. */
export interface GuestDisk {
  readonly name: string;
  /** Bytes. */
  readonly size: number;
}

/** A guest as its host lists it. `id` is the host's own and does not change; the name may. */
export interface HostGuest {
  readonly id: string;
  readonly name: string;
  /** Where it runs: data centre, cluster and host, as far as the host says. */
  readonly path: readonly string[];
}

/** What is known of a guest without its host; stored with each recovery point. */
export const guestDescription = z.object({
  id: z.string(),
  name: z.string(),
  /** Main memory, bytes, and processors. */
  memory: z.number(),
  processors: z.number(),
  disks: z.array(z.object({ name: diskNameSchema, size: z.number() })),
  /** The host's mark of this moment, from which on it knows what changes; null where it keeps none. */
  checkpoint: z.string().nullable(),
  /** The guest agent had the file systems at rest; and why not, where it had not. */
  quiesced: z.boolean(),
  notQuiesced: z.string().nullable(),
  /** Whose definition lies beside it. */
  definedBy: z.enum(["libvirt", "service"]),
});
export type GuestDescription = z.infer<typeof guestDescription>;

/** A disk of a snapshot, opened. */
export interface SnapshotDisk {
  readonly device: BlockDevice & { close(): void; readInto(into: Buffer, offset: number): Promise<void> };
  /** The context that says what changed since the checkpoint that was asked for; null where nothing does. */
  readonly changes: string | null;
}

/** A guest at one moment, until it is ended. */
export interface GuestSnapshot {
  readonly description: GuestDescription;
  /** The definition of the guest as its host writes it. */
  readonly definition: string;
  /** Why changed blocks are not known although a checkpoint was asked for; null where they are. */
  readonly reset: string | null;
  open(disk: string): Promise<SnapshotDisk>;
  /** Removes the snapshot from the host; the checkpoint stays. */
  end(): Promise<void>;
}

/** A guest that is to be there. */
export interface GuestToRestore {
  readonly name: string;
  readonly description: GuestDescription;
  readonly definition: string;
  readonly disks: readonly { readonly name: string; readonly stored: StoredDisk }[];
  /** The guest whose place it takes; null: a new one. */
  readonly replaces: string | null;
  /** It runs from the depot at once, and its data is copied meanwhile. */
  readonly start: boolean;
  readonly runId: string;
  readonly log: (message: string) => void;
}

/** A host of guests, or several under one management. Errors are CodedErrors of the `source.` and `restore.` codes. */
export interface HypervisorHost {
  /** Reaches the host. */
  find(): Promise<void>;
  /** Signs in; says what answers. */
  signIn(): Promise<string>;
  guests(): Promise<HostGuest[]>;
  /**
   * Takes a snapshot. What an earlier run of the same owner left on the host is removed first, but for the checkpoint that
   * is asked for.
   *
   * @param owner tells our checkpoints of one source from those of another console
   * @param since the checkpoint of the recovery point before
   * @param leaveOut disks that are not read
   */
  snapshot(
    id: string,
    owner: string,
    since: string | null,
    leaveOut: (disk: string) => boolean,
  ): Promise<GuestSnapshot>;
  /**
   * Creates a guest, powered off, or gives one other disks; says what was kept of the one that it replaces. A failure leaves
   * the host as it was.
   */
  restore(guest: GuestToRestore, passed: (bytes: number) => void, signal: AbortSignal): Promise<string[]>;
}
