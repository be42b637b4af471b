import { randomBytes, randomUUID } from "node:crypto";
import {
  closeSync,
  existsSync,
  ftruncateSync,
  mkdirSync,
  openSync,
  readFileSync,
  readSync,
  rmSync,
  writeFileSync,
  writeSync,
} from "node:fs";
import { join } from "node:path";
import { ALLOCATION, type BlockDevice, bitmapContext, DIRTY, HOLE, type Status, ZERO } from "@/disks/device";

/** Disks know in units of this size what is allocated and what was written to. */
const GRAIN = 64 * 1024;
export const BITMAP = "changed";

interface DiskState {
  readonly name: string;
  readonly size: number;
  readonly file: string;
  /** Units that hold something. */
  holds: number[];
}
interface Checkpoint {
  readonly name: string;
  /** Units that were written to since, by the names of the disks. */
  readonly written: Record<string, number[]>;
}
export interface GuestState {
  readonly id: string;
  name: string;
  path: readonly string[];
  memory: number;
  processors: number;
  running: boolean;
  /** Its agent lets the file systems come to rest. */
  agent: boolean;
  definition: string;
  disks: DiskState[];
  checkpoints: Checkpoint[];
  /** Why the checkpoints are gone, until the next one. */
  lost: string | null;
  /** Being created; nobody sees it yet. */
  staged: { readonly replaces: string | null } | null;
}
interface State {
  token: string;
  software: string;
  guests: GuestState[];
}

/** A guest at one moment, served until it is ended. */
export interface HeldSnapshot {
  readonly id: string;
  readonly guestId: string;
  readonly checkpoint: string;
  readonly reset: string | null;
  readonly disks: ReadonlyMap<string, HeldDisk>;
}

/** A disk as it was when a snapshot began: what is written to it afterwards is kept aside first. */
class HeldDisk implements BlockDevice {
  readonly readOnly = true;
  readonly contexts = [bitmapContext(BITMAP)];
  private readonly aside = new Map<number, Buffer>();
  private readonly holds: ReadonlySet<number>;

  constructor(
    private readonly disk: DiskFile,
    private readonly changed: ReadonlySet<number>,
  ) {
    this.holds = new Set(disk.state.holds);
  }

  get size(): number {
    return this.disk.size;
  }

  keep(unit: number): void {
    if (!this.aside.has(unit)) this.aside.set(unit, this.disk.unit(unit));
  }

  async read(offset: number, length: number): Promise<Buffer> {
    const parts: Buffer[] = [];
    for (const { unit, from, to } of unitsOf(offset, length))
      parts.push((this.aside.get(unit) ?? this.disk.unit(unit)).subarray(from, to));
    return Buffer.concat(parts);
  }

  async status(context: string, offset: number, length: number): Promise<Status[]> {
    return statusOf(offset, length, (unit) =>
      context === ALLOCATION ? (this.holds.has(unit) ? 0 : HOLE | ZERO) : this.changed.has(unit) ? DIRTY : 0,
    );
  }

  write = refused;
  zero = refused;
  flush = async () => {};
}

const refused = (): Promise<never> => Promise.reject(new Error("a snapshot is read only"));

function* unitsOf(offset: number, length: number): Generator<{ unit: number; from: number; to: number }> {
  for (let at = offset; at < offset + length; ) {
    const unit = Math.floor(at / GRAIN);
    const end = Math.min(offset + length, (unit + 1) * GRAIN);
    yield { unit, from: at - unit * GRAIN, to: end - unit * GRAIN };
    at = end;
  }
}

function statusOf(offset: number, length: number, flagsOf: (unit: number) => number): Status[] {
  const statuses: { length: number; flags: number }[] = [];
  for (const { unit, from, to } of unitsOf(offset, length)) {
    const flags = flagsOf(unit);
    const last = statuses.at(-1);
    if (last?.flags === flags) last.length += to - from;
    else statuses.push({ length: to - from, flags });
  }
  return statuses;
}

/** A disk's file: as long as the disk, with holes. */
class DiskFile implements BlockDevice {
  readonly readOnly = false;
  readonly contexts: readonly string[] = [];
  private readonly handle: number;
  readonly size: number;

  constructor(
    folder: string,
    readonly state: DiskState,
    /** Before a unit is written to. */
    private readonly before: (unit: number) => void,
  ) {
    this.size = state.size;
    const path = join(folder, state.file);
    const isNew = !existsSync(path);
    this.handle = openSync(path, isNew ? "wx+" : "r+", 0o600);
    if (isNew) ftruncateSync(this.handle, state.size);
  }

  unit(number: number): Buffer {
    const length = Math.min(GRAIN, this.size - number * GRAIN);
    const into = Buffer.alloc(length);
    readSync(this.handle, into, 0, length, number * GRAIN);
    return into;
  }

  async read(offset: number, length: number): Promise<Buffer> {
    const into = Buffer.alloc(length);
    readSync(this.handle, into, 0, length, offset);
    return into;
  }

  async status(context: string, offset: number, length: number): Promise<Status[]> {
    const holds = new Set(this.state.holds);
    return statusOf(offset, length, (unit) => (context === ALLOCATION && !holds.has(unit) ? HOLE | ZERO : 0));
  }

  async write(offset: number, bytes: Buffer): Promise<void> {
    const holds = new Set(this.state.holds);
    for (const { unit } of unitsOf(offset, bytes.length)) {
      this.before(unit);
      holds.add(unit);
    }
    this.state.holds = [...holds].sort((a, b) => a - b);
    writeSync(this.handle, bytes, 0, bytes.length, offset);
  }

  async zero(offset: number, length: number): Promise<void> {
    const written = this.state.holds.filter(
      (unit) => unit * GRAIN < offset + length && (unit + 1) * GRAIN > offset,
    );
    for (const unit of written) {
      const from = Math.max(offset, unit * GRAIN);
      await this.write(from, Buffer.alloc(Math.min(offset + length, (unit + 1) * GRAIN) - from));
    }
  }

  async flush(): Promise<void> {}

  close(): void {
    closeSync(this.handle);
  }
}

/** What a request names is not there, or cannot be done now. */
export class Refusal extends Error {
  constructor(
    readonly status: 404 | 409,
    message: string,
  ) {
    super(message);
  }
}

/** Hosts under one management, with their guests: kept in a folder. */
export class Estate {
  private readonly state: State;
  private readonly open = new Map<string, DiskFile>();
  readonly snapshots = new Map<string, HeldSnapshot>();

  constructor(private readonly folder: string) {
    const path = join(folder, "estate.json");
    mkdirSync(folder, { recursive: true });
    this.state = existsSync(path)
      ? (JSON.parse(readFileSync(path, "utf8")) as State)
      : {
          token: randomBytes(24).toString("base64url"),
          software: "Host API 1.0, simulated hosts",
          guests: [],
        };
    // what nobody completed before this ended
    for (const { id } of this.state.guests.filter(({ staged }) => staged)) this.remove(id);
    this.save();
  }

  get token(): string {
    return this.state.token;
  }
  get software(): string {
    return this.state.software;
  }
  get guests(): readonly GuestState[] {
    return this.state.guests.filter(({ staged }) => !staged);
  }

  guest(id: string): GuestState {
    const found = this.state.guests.find((one) => one.id === id);
    if (!found) throw new Refusal(404, `There is no guest ${id}.`);
    return found;
  }

  /** A new guest with empty disks. */
  add(
    facts: Pick<GuestState, "name" | "path" | "memory" | "processors"> & {
      readonly disks: readonly { readonly name: string; readonly size: number }[];
      readonly id?: string;
      readonly running?: boolean;
      readonly agent?: boolean;
      readonly definition?: string;
      readonly staged?: GuestState["staged"];
    },
  ): GuestState {
    const id = facts.id ?? randomUUID();
    const guest: GuestState = {
      id,
      name: facts.name,
      path: facts.path,
      memory: facts.memory,
      processors: facts.processors,
      running: facts.running ?? false,
      agent: facts.agent ?? false,
      definition: facts.definition || definitionOf(facts),
      disks: facts.disks.map(({ name, size }) => ({ name, size, file: `${id}-${name}.raw`, holds: [] })),
      checkpoints: [],
      lost: null,
      staged: facts.staged ?? null,
    };
    this.state.guests.push(guest);
    this.save();
    return guest;
  }

  remove(id: string): void {
    const { disks } = this.guest(id);
    for (const { file } of disks) this.drop(file);
    this.state.guests = this.state.guests.filter((one) => one.id !== id);
    this.save();
  }

  private drop(file: string): void {
    this.open.get(file)?.close();
    this.open.delete(file);
    rmSync(join(this.folder, file), { force: true });
  }

  /** A disk of a guest, to be read and written to as the guest itself does. */
  disk(id: string, name: string): DiskFile {
    const guest = this.guest(id);
    const state = guest.disks.find((one) => one.name === name);
    if (!state) throw new Refusal(404, `${guest.name} has no disk ${name}.`);
    const opened =
      this.open.get(state.file) ??
      new DiskFile(this.folder, state, (unit) => {
        for (const snapshot of this.snapshots.values())
          if (snapshot.guestId === id) snapshot.disks.get(name)?.keep(unit);
        for (const { written } of guest.checkpoints) {
          const units = written[name] ?? [];
          if (!units.includes(unit)) written[name] = [...units, unit];
        }
      });
    this.open.set(state.file, opened);
    return opened;
  }

  /** A guest writes to its disk. */
  async write(id: string, disk: string, offset: number, bytes: Buffer): Promise<void> {
    await this.disk(id, disk).write(offset, bytes);
    this.save();
  }

  /** The host loses what it knew of changes. */
  forget(id: string, why: string): void {
    const guest = this.guest(id);
    guest.checkpoints = [];
    guest.lost = why;
    this.save();
  }

  power(id: string, on: boolean): void {
    this.guest(id).running = on;
    this.save();
  }

  /** Begins a snapshot; what the same owner left is removed, but for the checkpoint that changes are asked since. */
  snapshot(id: string, owner: string, since: string | null): HeldSnapshot {
    const guest = this.guest(id);
    for (const [held, { guestId, checkpoint }] of this.snapshots)
      if (guestId === id && checkpoint.startsWith(`${owner}-`)) this.snapshots.delete(held);
    const known = guest.checkpoints.find(({ name }) => name === since) ?? null;
    guest.checkpoints = guest.checkpoints.filter(
      ({ name }) => !name.startsWith(`${owner}-`) || name === since,
    );
    const checkpoint = `${owner}-${randomBytes(6).toString("hex")}`;
    const reset = known ? null : (guest.lost ?? "the host no longer has the checkpoint");
    const held: HeldSnapshot = {
      id: randomBytes(16).toString("hex"),
      guestId: id,
      checkpoint,
      reset,
      disks: new Map(
        guest.disks.map(({ name }) => [
          name,
          new HeldDisk(this.disk(id, name), new Set(known?.written[name] ?? [])),
        ]),
      ),
    };
    guest.checkpoints.push({ name: checkpoint, written: {} });
    guest.lost = null;
    this.snapshots.set(held.id, held);
    this.save();
    return held;
  }

  endSnapshot(id: string): void {
    if (!this.snapshots.delete(id)) throw new Refusal(404, "There is no such snapshot.");
  }

  /** A guest that is written to before it is there. */
  stage(facts: Parameters<Estate["add"]>[0], replaces: string | null): GuestState {
    const replaced = replaces ? this.guest(replaces) : null;
    if (replaced?.running) throw new Refusal(409, `${replaced.name} is running; power it off.`);
    const unknown = facts.disks.find(
      ({ name }) => replaced && !replaced.disks.some((one) => one.name === name),
    );
    if (unknown) throw new Refusal(409, `${replaced!.name} has no disk ${unknown.name} to replace.`);
    if (!replaced && this.guests.some(({ name }) => name === facts.name))
      throw new Refusal(409, `There is a guest ${facts.name} already.`);
    return this.add({
      ...facts,
      path: replaced?.path ?? this.guests[0]?.path ?? ["host-1"],
      staged: { replaces },
    });
  }

  /** What was staged is there; names the disks that were there before and are kept. */
  complete(id: string): string[] {
    const guest = this.guest(id);
    if (!guest.staged) throw new Refusal(409, `${guest.name} is complete.`);
    const { replaces } = guest.staged;
    guest.staged = null;
    if (!replaces) {
      this.save();
      return [];
    }
    const replaced = this.guest(replaces);
    if (replaced.running) throw new Refusal(409, `${replaced.name} is running; power it off.`);
    const other = (name: string) => guest.disks.find((disk) => disk.name === name);
    const kept = replaced.disks.filter(({ name }) => other(name)).map(({ file }) => file);
    replaced.disks = replaced.disks.map((disk) => other(disk.name) ?? disk);
    replaced.checkpoints = [];
    replaced.lost = "the disks were replaced by a restore";
    this.state.guests = this.state.guests.filter((one) => one.id !== id);
    for (const { file } of guest.disks) {
      this.open.get(file)?.close();
      this.open.delete(file);
    }
    this.save();
    return kept;
  }

  save(): void {
    writeFileSync(join(this.folder, "estate.json"), JSON.stringify(this.state), { mode: 0o600 });
  }

  close(): void {
    for (const disk of this.open.values()) disk.close();
    this.open.clear();
  }
}

const definitionOf = ({
  name,
  memory,
  processors,
}: Pick<GuestState, "name" | "memory" | "processors">): string =>
  JSON.stringify({ name, memory, processors, firmware: "bios" }, null, 2);
