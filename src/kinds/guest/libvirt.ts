import { randomBytes } from "node:crypto";
import { dirname } from "node:path";
import { setTimeout as sleep } from "node:timers/promises";
import { CodedError } from "@/core/codes";
import { type NbdAddress, NbdClient } from "@/disks/client";
import { bitmapContext } from "@/disks/device";
import { qcow2Of } from "@/disks/qcow2";
import { allowedAddress } from "@/store/places/reach";
import type { OpenConnection } from "../connection-base";
import {
  all,
  attributesOf,
  contentOf,
  type DefinedDisk,
  type Definition,
  disksOverOthers,
  type Images,
  newDefinition,
  one,
  parseXml,
  plainDefinition,
  plainName,
  readDefinition,
  textOf,
  withOtherImages,
} from "./definition";
import type { GuestSnapshot, GuestToRestore, HostGuest, HypervisorHost } from "./host";
import { OURS } from "./names";
import type { GuestSettings } from "./settings";
import { Stopgap } from "./stopgap";
import { Virsh, VirshFailed } from "./virsh";

const BITMAP = "changed";
/** Where the host serves a snapshot: the first of these ports that is free. */
const FIRST_PORT = 10809;
const PORTS = 32;
const PATIENCE = 100;
const PAUSE_MS = 200;
/** Where a guest that lies on devices alone has the files of a snapshot. */
const BESIDE_DEVICES = "/var/tmp/disk";
/** Our mark on a guest that is restored: the run that it comes from. */
const RESTORED = "https://deep-keep.example/restored-by";
/** Our mark on a guest that runs only for a backup. */
const MARK = "https://deep-keep.example/started-for-a-backup";

/** A host with QEMU under libvirt, by its own program. */
export class LibvirtHost implements HypervisorHost {
  private readonly virsh: Virsh;

  constructor(
    uri: string,
    private readonly host: string | null,
    private readonly connection: OpenConnection<GuestSettings>,
  ) {
    this.virsh = new Virsh(uri, host);
  }

  async find(): Promise<void> {
    await this.virsh.ask("uri");
  }

  async signIn(): Promise<string> {
    const said = await this.asked("version");
    const [hypervisor] = /(?<=Running hypervisor: ).*/.exec(said) ?? ["unknown"];
    const [library] = /(?<=Using library: ).*/.exec(said) ?? ["libvirt"];
    return `${hypervisor}, ${library}`;
  }

  async guests(): Promise<HostGuest[]> {
    const host = await this.asked("hostname");
    const listed = await this.asked("list", "--all", "--uuid", "--name");
    return listed
      .split("\n")
      .map((line) => /^\s*([0-9a-f-]{36})\s+(.+?)\s*$/.exec(line))
      .flatMap((found) => (found ? [{ id: found[1]!, name: found[2]!, path: [host] }] : []))
      .filter(({ name }) => !name.startsWith(`${OURS}-`));
  }

  /** A command that has to work. */
  private async asked(...args: string[]): Promise<string> {
    try {
      return await this.virsh.ask(...args);
    } catch (error) {
      throw error instanceof VirshFailed ? new CodedError("source.snapshot-failed", error.message) : error;
    }
  }

  async snapshot(
    id: string,
    owner: string,
    since: string | null,
    leaveOut: (disk: string) => boolean,
  ): Promise<GuestSnapshot> {
    const prefix = `${OURS}-${owner}-`;
    const { virsh } = this;
    try {
      await this.sweep(id, prefix);
      const definition = await this.definitionOf(id);
      const guest = readDefinition(definition);
      const disks = guest.disks.filter(({ name }) => !leaveOut(name));
      const elsewhere = disks.find(({ path }) => path === null);
      if (elsewhere)
        throw new CodedError(
          "source.snapshot-failed",
          `the disk ${elsewhere.name} of ${guest.name} is on ${elsewhere.storage} storage, which is not read; exclude it in the policy`,
        );
      if (disks.length === 0)
        throw new CodedError("source.snapshot-failed", `${guest.name} has no disk that can be read`);
      const known = await this.knownSince(id, prefix, since);
      const isOff = (await virsh.ask("domstate", id)) === "shut off";
      // a guest that is off is opened without its processors running
      if (isOff) await this.startStill(id);
      try {
        const begun = await this.begin(id, `${prefix}${randomBytes(6).toString("hex")}`, disks, known, isOff);
        const sizes = await Promise.all(disks.map(({ name }) => this.sizeOf(id, name)));
        return this.opened(id, guest, definition, disks, sizes, begun, since, isOff);
      } catch (error) {
        await this.release(id, isOff).catch(() => {});
        throw error;
      }
    } catch (error) {
      virsh.end();
      throw error instanceof VirshFailed ? new CodedError("source.snapshot-failed", error.message) : error;
    }
  }

  private opened(
    id: string,
    guest: Definition,
    definition: string,
    disks: readonly DefinedDisk[],
    sizes: readonly number[],
    begun: Begun,
    since: string | null,
    isOff: boolean,
  ): GuestSnapshot {
    const clients: NbdClient[] = [];
    return {
      definition,
      description: {
        id,
        name: guest.name,
        memory: guest.memory,
        processors: guest.processors,
        disks: disks.map(({ name }, i) => ({ name, size: sizes[i]! })),
        checkpoint: begun.checkpoint,
        quiesced: begun.notQuiesced === null,
        notQuiesced: begun.notQuiesced,
        definedBy: "libvirt",
      },
      reset: since ? begun.reset : null,
      open: async (name) => {
        const changes = begun.tracked.has(name) ? bitmapContext(BITMAP) : null;
        const device = await NbdClient.open(begun.address, name, changes ? [changes] : []).catch(
          (error: Error) => {
            throw new CodedError(
              "source.snapshot-failed",
              `the host does not serve ${name}: ${error.message}`,
            );
          },
        );
        clients.push(device);
        return { device, changes: changes && device.contexts.includes(changes) ? changes : null };
      },
      end: async () => {
        for (const client of clients) client.close();
        try {
          await this.release(id, isOff);
        } finally {
          this.virsh.end();
        }
      },
    };
  }

  /** The definition that stays when the guest is off; of one that is not kept, the one that runs. */
  private async definitionOf(id: string): Promise<string> {
    return (await this.virsh.tried("dumpxml", id, "--inactive")) ?? (await this.virsh.ask("dumpxml", id));
  }

  private async sizeOf(id: string, disk: string): Promise<number> {
    const said = await this.virsh.ask("domblkinfo", id, disk);
    return Number(/Capacity:\s+(\d+)/.exec(said)?.[1] ?? 0);
  }

  /** Removes what an earlier run left behind: its snapshot, file systems at rest, a guest that was started for it alone. */
  private async sweep(id: string, prefix: string): Promise<void> {
    const { virsh } = this;
    const job = await virsh.tried("backup-dumpxml", id);
    if (job !== null) {
      if (!job.includes(prefix))
        throw new CodedError(
          "source.snapshot-failed",
          "another backup of this guest is under way: of another program, console or source",
        );
      await virsh.tried("domjobabort", id);
      await this.jobEnded(id);
      await virsh.tried("domfsthaw", id);
    }
    const mark = await virsh.tried("metadata", id, MARK, "--live");
    if (mark && /^paused/.test(await virsh.ask("domstate", id))) await virsh.ask("destroy", id);
  }

  private async startStill(id: string): Promise<void> {
    await this.virsh.ask("start", id, "--paused");
    await this.virsh.tried("metadata", id, MARK, "--live", "--key", OURS, "--set", "<backup/>");
  }

  private async release(id: string, wasOff: boolean): Promise<void> {
    await this.virsh.tried("domjobabort", id);
    await this.jobEnded(id);
    // somebody may have started it meanwhile
    if (wasOff && /^paused/.test((await this.virsh.tried("domstate", id)) ?? ""))
      await this.virsh.tried("destroy", id);
  }

  private async jobEnded(id: string): Promise<void> {
    for (let tries = 0; tries < PATIENCE; tries += 1) {
      const job = await this.virsh.tried("backup-dumpxml", id);
      if (job === null) return;
      await sleep(PAUSE_MS);
    }
    throw new CodedError("source.snapshot-failed", "the host does not end the snapshot of an earlier run");
  }

  /** The checkpoint from which on changes are known, with its disks; or why there is none. Others of this source are removed. */
  private async knownSince(id: string, prefix: string, since: string | null): Promise<Known> {
    const { virsh } = this;
    const listed = (await virsh.tried("checkpoint-list", id, "--name")) ?? "";
    const names = listed.split(/\s+/).filter((name) => name.startsWith(prefix));
    for (const name of names)
      if (name !== since && (await virsh.tried("checkpoint-delete", id, name)) === null)
        await virsh.tried("checkpoint-delete", id, name, "--metadata");
    if (!since) return { since: null, disks: new Set(), why: null };
    if (!names.includes(since))
      return {
        since: null,
        disks: new Set(),
        why: "the host no longer has the checkpoint of the last recovery point",
      };
    const checkpoint = one(
      parseXml(await virsh.ask("checkpoint-dumpxml", id, since)),
      "domaincheckpoint",
      "disks",
    );
    const disks = all(contentOf(checkpoint ?? { disks: [] }), "disk")
      .map(attributesOf)
      .filter((disk) => disk.checkpoint === "bitmap")
      .map((disk) => disk.name ?? "");
    return { since, disks: new Set(disks), why: null };
  }

  /** Begins the snapshot, as well as this host can: with changes since and from now on, with those from now on, without. */
  private async begin(
    id: string,
    checkpoint: string,
    disks: readonly DefinedDisk[],
    known: Known,
    isOff: boolean,
  ): Promise<Begun> {
    const tracked = disks.filter(({ format }) => format === "qcow2").map(({ name }) => name);
    const because: string[] = known.why ? [known.why] : [];
    const untracked = disks.filter(({ name }) => known.since && !known.disks.has(name));
    if (untracked.length > 0)
      because.push(
        `no changes are known of ${untracked.map(({ name, format }) => `${name} (${format})`).join(", ")}`,
      );
    const ways: { readonly since: string | null; readonly marks: readonly string[] }[] = [
      ...(known.since ? [{ since: known.since, marks: tracked }] : []),
      ...(tracked.length ? [{ since: null, marks: tracked }] : []),
      { since: null, marks: [] },
    ];
    for (const [i, way] of ways.entries())
      try {
        const served = await this.serve(id, checkpoint, disks, way, known, isOff);
        return {
          ...served,
          checkpoint: way.marks.length ? checkpoint : null,
          tracked: new Set(
            way.since ? disks.map(({ name }) => name).filter((name) => known.disks.has(name)) : [],
          ),
          reset: because.length ? because.join("; ") : null,
        };
      } catch (error) {
        if (!(error instanceof VirshFailed) || i === ways.length - 1) throw error;
        because.push(error.message);
        // a checkpoint whose bitmap is broken would hinder the next one too
        if (way.since && (await this.virsh.tried("checkpoint-delete", id, way.since)) === null)
          await this.virsh.tried("checkpoint-delete", id, way.since, "--metadata");
      }
    throw new VirshFailed(because.join("; "));
  }

  private async serve(
    id: string,
    checkpoint: string,
    disks: readonly DefinedDisk[],
    way: { readonly since: string | null; readonly marks: readonly string[] },
    known: Known,
    isOff: boolean,
  ): Promise<{ readonly address: NbdAddress; readonly notQuiesced: string | null }> {
    const { virsh } = this;
    const folder = dirname(disks.find(({ storage }) => storage === "file")?.path ?? BESIDE_DEVICES);
    const marks = virsh.document(checkpointXml(checkpoint, disks, way.marks));
    const tls = this.host !== null && this.connection.settings.transfer === "tls";
    let last: unknown = null;
    for (let i = 0; i < (this.host ? PORTS : 1); i += 1) {
      const server = this.host
        ? `transport='tcp' name='${this.host}' port='${FIRST_PORT + i}'${tls ? " tls='yes'" : ""}`
        : `transport='unix' socket='${folder}/${checkpoint}.sock'`;
      const backup = virsh.document(backupXml(server, `${folder}/${checkpoint}`, disks, way.since, known));
      const begin = ["backup-begin", id, backup, ...(way.marks.length ? [marks] : [])];
      try {
        // one call, so that nothing of ours that ends meanwhile leaves the guest with its file systems at rest
        const froze = isOff ? "it is powered off" : await this.quiesce(id, begin);
        if (isOff) await virsh.ask(...begin);
        return {
          address: this.host
            ? {
                host: await allowedAddress(this.host),
                port: FIRST_PORT + i,
                ...(tls ? { tls: this.tlsOptions(this.host) } : {}),
              }
            : { path: `${folder}/${checkpoint}.sock` },
          notQuiesced: isOff ? null : froze,
        };
      } catch (error) {
        last = error;
        if (!(error instanceof VirshFailed) || !/Address already in use/i.test(error.message)) throw error;
      }
    }
    throw last;
  }

  private tlsOptions(servername: string) {
    const { authority } = this.connection.settings;
    return { servername, ...(authority ? { ca: authority } : {}) };
  }

  /** Begins with the file systems at rest where the guest's agent can do that; says why it cannot. */
  private async quiesce(id: string, begin: readonly string[]): Promise<string | null> {
    const { virsh } = this;
    if ((await virsh.tried("guestinfo", id, "--os")) === null) {
      await virsh.ask(...begin);
      return "no guest agent answers";
    }
    try {
      const words = begin.map((word) => `'${word}'`).join(" ");
      await virsh.ask(`domfsfreeze ${id}; ${words}; domfsthaw ${id}`);
      return null;
    } catch (error) {
      await virsh.tried("domfsthaw", id);
      if (!(error instanceof VirshFailed)) throw error;
      if ((await virsh.tried("backup-dumpxml", id)) === null) throw error;
      return error.message;
    }
  }

  async restore(
    guest: GuestToRestore,
    passed: (bytes: number) => void,
    signal: AbortSignal,
  ): Promise<string[]> {
    try {
      const named = {
        ...guest,
        // hosts of another kind name disks otherwise
        disks:
          guest.description.definedBy === "libvirt"
            ? guest.disks
            : guest.disks.map((disk, number) => ({ ...disk, name: plainName(number) })),
      };
      return await this.created(named, passed, signal);
    } catch (error) {
      throw error instanceof VirshFailed ? new CodedError("restore.cannot-write", error.message) : error;
    } finally {
      this.virsh.end();
    }
  }

  private async created(
    guest: GuestToRestore,
    passed: (bytes: number) => void,
    signal: AbortSignal,
  ): Promise<string[]> {
    if (guest.start) return this.startedFromDepot(guest, passed, signal);
    const { virsh } = this;
    const before = guest.replaces ? await this.replaced(guest.replaces) : null;
    if (!before && (await virsh.tried("domuuid", guest.name)) !== null)
      throw new CodedError("restore.exists", `the host has a guest ${guest.name} already`);
    const missing =
      before && guest.disks.find(({ name }) => !before.disks.some((disk) => disk.name === name));
    if (missing)
      throw new CodedError(
        "restore.cannot-write",
        `${guest.name} no longer has the disk ${missing.name}; restore the guest under another name`,
      );
    const pool = await this.poolFor(before);
    const images = new Map<string, string>();
    const created: string[] = [];
    try {
      const stamp = randomBytes(4).toString("hex");
      for (const { name, stored } of guest.disks) {
        const volume = `${guest.name.replaceAll(/[^A-Za-z0-9_.-]/g, "_")}-${name}-${stamp}.qcow2`;
        await virsh.ask("vol-create", pool, virsh.document(volumeXml(volume, stored.size)));
        created.push(volume);
        await virsh.feed(
          ["vol-upload", "--pool", pool, volume, "/dev/stdin"],
          qcow2Of(stored, passed).stream,
          signal,
        );
        images.set(name, await virsh.ask("vol-path", "--pool", pool, volume));
      }
      // of the original, the host's own definition stays
      const xml = before
        ? withOtherImages(await virsh.ask("dumpxml", before.id, "--inactive"), { images })
        : await this.definitionFor(guest, { images });
      if (before) await this.forgetCheckpoints(before.id);
      await virsh.ask("define", virsh.document(xml));
      const replaced = (before?.disks ?? []).filter(({ name }) => images.has(name));
      return replaced.flatMap(({ path }) => (path ? [path] : []));
    } catch (error) {
      for (const volume of created) await virsh.tried("vol-delete", "--pool", pool, volume);
      if (signal.aborted) throw signal.reason;
      throw error;
    }
  }

  /** The definition of a new guest; what is not taken over is said. */
  private async definitionFor(guest: GuestToRestore, images: Images): Promise<string> {
    if (guest.description.definedBy !== "libvirt")
      return plainDefinition(guest.description, guest.name, images, await this.domainType());
    const { xml, leftOut } = newDefinition(guest.definition, guest.name, images);
    if (leftOut.length > 0)
      guest.log(
        `not taken over from the definition, since it names what is the host's own: ${leftOut.join(", ")}`,
      );
    return xml;
  }

  /**
   * Runs a new guest from the depot and copies its data meanwhile. When the console dies, the next attempt of the run finds
   * what was created, starts the guest again and goes on. When a person stops the run, the guest is discarded; what fails after
   * the guest was started leaves it, with what it has written.
   */
  private async startedFromDepot(
    guest: GuestToRestore,
    passed: (bytes: number) => void,
    signal: AbortSignal,
  ): Promise<string[]> {
    const { virsh } = this;
    if (this.host)
      throw new CodedError(
        "restore.cannot-write",
        "a guest is started from the depot on the console's own machine only; restore the guest, then start it",
      );
    if (guest.replaces)
      throw new CodedError(
        "restore.cannot-write",
        "only a new guest is started from the depot; give it a name",
      );
    const mark = guest.runId.replaceAll("-", "").slice(0, 12);
    const current = await virsh.tried("dumpxml", guest.name, "--inactive");
    if (
      current !== null &&
      !(await virsh.tried("metadata", guest.name, RESTORED, "--config"))?.includes(mark)
    )
      throw new CodedError("restore.exists", `the host has a guest ${guest.name} already`);
    const pool = await this.poolFor(null);
    const volumes = new Map(guest.disks.map(({ name }) => [name, `${OURS}-${mark}-${name}.qcow2`]));
    // what an earlier attempt copied whole needs the depot no more
    const needing = current === null ? null : disksOverOthers(current);
    const disks = guest.disks.filter(({ name }) => needing === null || needing.has(name));
    const stopgap = new Stopgap(virsh, `${await this.folderOf(pool)}/${OURS}-${mark}.sock`, disks, guest.log);
    let runs = current !== null;
    try {
      const below = await stopgap.serve();
      if (current === null)
        for (const { name, stored } of disks) {
          await virsh.tried("vol-delete", "--pool", pool, volumes.get(name)!);
          await virsh.ask("vol-create", pool, virsh.document(volumeXml(volumes.get(name)!, stored.size)));
        }
      else {
        // its disks lost their server when that died
        guest.log("the copy was interrupted: the guest is started again");
        await virsh.tried("destroy", guest.name);
      }
      const images = new Map<string, string>();
      for (const [name, volume] of volumes)
        images.set(name, await virsh.ask("vol-path", "--pool", pool, volume));
      const xml =
        current === null
          ? await this.definitionFor(guest, { images, below })
          : withOtherImages(current, { images, below });
      await virsh.ask("define", virsh.document(xml));
      const run = `<run id="${mark}"/>`;
      await virsh.ask("metadata", guest.name, RESTORED, "--config", "--key", OURS, "--set", run);
      await virsh.ask("start", guest.name);
      runs = true;
      guest.log(`${guest.name} runs from the depot; its data is being copied`);
      await stopgap.copy(guest.name, passed, signal);
      return [];
    } catch (error) {
      // what another attempt goes on with stays
      if ((signal.reason as Error | undefined)?.name === "Superseded") throw signal.reason;
      if (runs && !signal.aborted)
        throw new CodedError(
          "restore.cannot-write",
          `${(error as Error).message}; ${guest.name} is left with what it has written, and cannot read what is not copied yet`,
        );
      await virsh.tried("destroy", guest.name);
      await virsh.tried("undefine", guest.name);
      for (const volume of volumes.values()) await virsh.tried("vol-delete", "--pool", pool, volume);
      if (signal.aborted) throw signal.reason;
      throw error;
    } finally {
      await stopgap.end();
    }
  }

  private async folderOf(pool: string): Promise<string> {
    return textOf(one(parseXml(await this.virsh.ask("pool-dumpxml", pool)), "pool", "target", "path"));
  }

  /** The guest whose disks are replaced: it must be off. */
  private async replaced(id: string): Promise<Definition> {
    const xml = await this.virsh.tried("dumpxml", id, "--inactive");
    if (xml === null)
      throw new CodedError("not-found", "the host no longer has this guest; restore it as a new one");
    const guest = readDefinition(xml);
    const state = await this.virsh.ask("domstate", id);
    if (state !== "shut off")
      throw new CodedError(
        "restore.in-use",
        `${guest.name} is ${state}; power it off, or restore under another name`,
      );
    return guest;
  }

  /** They belong to disks that the guest no longer has. */
  private async forgetCheckpoints(id: string): Promise<void> {
    const listed = (await this.virsh.tried("checkpoint-list", id, "--name")) ?? "";
    for (const name of listed.split(/\s+/).filter(Boolean))
      await this.virsh.ask("checkpoint-delete", id, name, "--metadata");
  }

  /** The pool of volumes for new disks: the one that the guest's own lie in, or the first one. */
  private async poolFor(before: Definition | null): Promise<string> {
    const pools = (await this.virsh.ask("pool-list", "--name"))
      .split("\n")
      .map((one) => one.trim())
      .filter(Boolean);
    for (const pool of pools) {
      const target = await this.folderOf(pool);
      if (before?.disks.some(({ path }) => path && dirname(path) === target)) return pool;
    }
    if (!pools[0])
      throw new CodedError("restore.cannot-write", "the host has no active storage pool; start one");
    return pools[0];
  }

  /** With hardware acceleration where the host has it. */
  private async domainType(): Promise<"kvm" | "qemu"> {
    return /<domain type='kvm'/.test(await this.virsh.ask("capabilities")) ? "kvm" : "qemu";
  }
}

/** A checkpoint that changes are known since, and of which disks. */
interface Known {
  readonly since: string | null;
  readonly disks: ReadonlySet<string>;
  /** Why none, although there was one. */
  readonly why: string | null;
}

interface Begun {
  readonly address: NbdAddress;
  readonly checkpoint: string | null;
  /** Disks of which the changes are served. */
  readonly tracked: ReadonlySet<string>;
  readonly reset: string | null;
  readonly notQuiesced: string | null;
}

const escaped = (value: string): string =>
  value.replaceAll("&", "&amp;").replaceAll("<", "&lt;").replaceAll("'", "&apos;").replaceAll('"', "&quot;");

const checkpointXml = (name: string, disks: readonly DefinedDisk[], marked: readonly string[]): string =>
  `<domaincheckpoint><name>${name}</name><disks>${disks
    .map(
      (disk) =>
        `<disk name='${escaped(disk.name)}' checkpoint='${marked.includes(disk.name) ? "bitmap" : "no"}'/>`,
    )
    .join("")}</disks></domaincheckpoint>`;

function backupXml(
  server: string,
  /** What the names of the files begin with that take what the guest writes over meanwhile. */
  beside: string,
  disks: readonly DefinedDisk[],
  since: string | null,
  known: Known,
): string {
  const of = ({ name }: DefinedDisk) => {
    const scratch = escaped(`${beside}-${name}.scratch`);
    const changes =
      since && known.disks.has(name)
        ? ` backupmode='incremental' incremental='${since}' exportbitmap='${BITMAP}'`
        : since
          ? " backupmode='full'"
          : "";
    return `<disk name='${escaped(name)}' backup='yes' type='file'${changes} exportname='${escaped(name)}'><driver type='qcow2'/><scratch file='${scratch}'/></disk>`;
  };
  return `<domainbackup mode='pull'><server ${server}/><disks>${disks.map(of).join("")}</disks></domainbackup>`;
}

/** Version 3 of the format: it keeps track of changes. */
const volumeXml = (name: string, size: number): string =>
  `<volume><name>${name}</name><capacity unit='bytes'>${size}</capacity><allocation>0</allocation><target><format type='qcow2'/><compat>1.1</compat></target></volume>`;
