import { Readable } from "node:stream";
import { CodedError } from "@/core/codes";
import { namePattern } from "@/core/selection/pattern";
import { ALLOCATION, DIRTY, rangesOf, ZERO } from "@/disks/device";
import {
  type ByteRange,
  type Listed,
  type Listing,
  NOBODY_SAID,
  nowNanoseconds,
  type OpenDisk,
  type OpenFile,
  type SourceReader,
} from "@/sources/reader";
import { streamFile } from "@/sources/stream-file";
import type { ByteString } from "@/store/tree/tree";
import { byteString, showBytes } from "@/store/tree/tree";
import { type GuestSnapshot, type HypervisorHost, LARGEST_DISK } from "./host";
import { DEFINITION, DESCRIPTION, diskFile } from "./names";
import type { GuestWhat } from "./what";

/** A guest at one moment: its description, its host's definition of it, and its disks. */
export class GuestReader implements SourceReader {
  private readonly at = nowNanoseconds();

  private constructor(private readonly snapshot: GuestSnapshot) {}

  /**
   * Takes the snapshot.
   *
   * @param owner tells our marks on the host of one source from those of another console
   * @param since the checkpoint of the recovery point before; null where there is none
   */
  static async open(
    host: HypervisorHost,
    id: string,
    { excludeDisks }: GuestWhat,
    owner: string,
    since: string | null,
  ): Promise<{
    readonly reader: GuestReader;
    readonly reset: string | null;
    readonly notes: readonly string[];
  }> {
    const excluded = excludeDisks.map((pattern) => namePattern(pattern));
    const snapshot = await host.snapshot(id, owner, since, (disk) => excluded.some((test) => test(disk)));
    const { notQuiesced, quiesced } = snapshot.description;
    return {
      reader: new GuestReader(snapshot),
      reset: snapshot.reset && `All disks are read: ${snapshot.reset}.`,
      notes: [
        quiesced && notQuiesced === null
          ? "The snapshot was taken with the guest's file systems at rest."
          : `The snapshot is as after a power cut: ${notQuiesced}.`,
      ],
    };
  }

  look(path: ByteString): Listed {
    if (path === "/") return this.entry("", "folder", 0);
    throw new CodedError("folder.missing", path);
  }

  list(): Listing {
    const { disks } = this.snapshot.description;
    const items = [
      this.entry(DEFINITION, "file", 0),
      this.entry(DESCRIPTION, "file", 0),
      ...disks.map(({ name, size }) => ({ ...this.entry(diskFile(name), "file", size), disk: true })),
    ];
    return { at: this.at, items: items.sort((a, b) => (a.name < b.name ? -1 : 1)) };
  }

  open(path: ByteString): OpenFile {
    const text = {
      [`/${DESCRIPTION}`]: () => JSON.stringify(this.snapshot.description, null, 2),
      [`/${DEFINITION}`]: () => this.snapshot.definition,
    }[path];
    if (!text) throw new CodedError("file.vanished", path);
    return streamFile(Readable.from([Buffer.from(text())], { objectMode: false }), Promise.resolve());
  }

  async openDisk(path: ByteString): Promise<OpenDisk> {
    const disk = this.snapshot.description.disks.find(
      ({ name }) => path === `/${byteString(diskFile(name))}`,
    );
    if (!disk) throw new CodedError("file.vanished", path);
    const { device, changes } = await this.snapshot.open(disk.name);
    const told = <T>(work: Promise<T>): Promise<T> =>
      work.catch((error: Error) => {
        if (error instanceof CodedError) throw error;
        throw new CodedError("source.snapshot-failed", `${disk.name}: ${error.message}`);
      });
    if (!Number.isSafeInteger(device.size) || device.size > LARGEST_DISK) {
      device.close();
      throw new CodedError("source.unreadable", `${disk.name} claims to have ${device.size} bytes`);
    }
    let changed: ByteRange[] | null = null;
    if (changes)
      changed = await told(rangesOf(device, changes, 0, device.size, (flags) => (flags & DIRTY) > 0));
    return {
      size: device.size,
      changed,
      allocated: (offset, length) =>
        told(rangesOf(device, ALLOCATION, offset, offset + length, (flags) => (flags & ZERO) === 0)),
      readInto: (into, offset) => told(device.readInto(into, offset)),
      close: () => device.close(),
    };
  }

  target(path: ByteString): ByteString {
    throw new CodedError("file.unreadable", showBytes(path));
  }

  xattrs(): [ByteString, Uint8Array][] {
    return [];
  }

  passesOver(): boolean {
    return false;
  }

  private ended: Promise<void> | null = null;
  end(): Promise<void> {
    // what cannot be removed now is when the next run begins
    this.ended ??= this.snapshot.end().catch(() => {});
    return this.ended;
  }

  private entry(name: string, type: "file" | "folder", size: number): Listed {
    return {
      name: byteString(name),
      type,
      mode: type === "folder" ? 0o700 : 0o600,
      uid: NOBODY_SAID,
      gid: NOBODY_SAID,
      mtime: this.at,
      ctime: this.at,
      // what it contains is known when it was read
      inode: this.at % 2n ** 48n,
      size,
      allocated: 0,
    };
  }
}
