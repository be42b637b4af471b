import { execFileSync } from "node:child_process";
import { closeSync, mkdirSync, openSync, readSync, rmSync, utimesSync, writeFileSync } from "node:fs";
import { join } from "node:path";
import { Estate, type GuestState } from "@/standins/host/estate";
import { Chance } from "./chance";

/** The guests of the demo's hosts: small, with a partition table and a real file system that lives on from day to day. */
export const GUESTS = {
  pendlewick: [
    {
      name: "pend-app-01",
      path: ["Trust house", "Cluster Trust", "pend-host-1"],
      agent: true,
      service: "lettings",
    },
    {
      name: "pend-print-01",
      path: ["Trust house", "Cluster Trust", "pend-host-2"],
      agent: true,
      service: "print",
    },
    {
      name: "pend-wiki-01",
      path: ["Trust house", "Cluster Trust", "pend-host-2"],
      agent: false,
      service: "wiki",
    },
  ],
  ostrel: [{ name: "ostr-cad-01", path: ["Survey office", "ostr-host-1"], agent: true, service: "drawings" }],
} as const;
export type DemoEstate = keyof typeof GUESTS;

const MIB = 1024 * 1024;
const SECTOR = 512;
const DISK = 24 * MIB;
const PARTITION_AT = MIB;
const PARTITION = DISK - PARTITION_AT;
/** Compared and written in parts of this size. */
const PART = 64 * 1024;
const LINUX = 0x83;

export class GuestLife {
  readonly estates: ReadonlyMap<string, Estate>;
  private readonly chance = new Chance(2909);

  constructor(private readonly folder: string) {
    this.estates = new Map(
      Object.keys(GUESTS).map((name) => [name, new Estate(join(folder, "hosts", name))]),
    );
  }

  estate(name: DemoEstate): Estate {
    return this.estates.get(name)!;
  }

  async begin(name: DemoEstate, at: Date): Promise<void> {
    const estate = this.estate(name);
    for (const { service, ...facts } of GUESTS[name]) {
      const guest = estate.add({
        ...facts,
        memory: 2048 * MIB,
        processors: 2,
        running: true,
        disks: [{ name: "disk-0", size: DISK }],
      });
      await estate.write(guest.id, "disk-0", 0, partitionTable());
      mkdirSync(join(this.contentOf(guest), "etc"), { recursive: true });
      mkdirSync(join(this.contentOf(guest), "srv", service), { recursive: true });
      this.put(guest, "etc/hostname", `${facts.name}\n`, at);
      this.put(guest, "etc/service.conf", `name = ${service}\nlisten = 8080\n`, at);
      for (let number = 1; number <= 12; number += 1) this.write(guest, service, `record-${number}.txt`, at);
      for (const folder of ["etc", `srv/${service}`, "srv", "."])
        utimesSync(join(this.contentOf(guest), folder), at, at);
      await this.settle(name, guest);
    }
  }

  /** A day in the guests of hosts: records come and change. */
  async day(name: DemoEstate, at: Date): Promise<void> {
    for (const guest of this.estate(name).guests) {
      const service = GUESTS[name].find((one) => one.name === guest.name)?.service;
      if (!service) continue;
      this.write(guest, service, `record-${1 + this.chance.below(40)}.txt`, at);
      await this.settle(name, guest);
    }
  }

  private guest(name: DemoEstate, guest: string): GuestState {
    return this.estate(name).guests.find((one) => one.name === guest)!;
  }

  /** Somebody clones a guest overnight. */
  async clone(name: DemoEstate, from: string, to: string): Promise<void> {
    const estate = this.estate(name);
    const { id, path, memory, processors, disks } = this.guest(name, from);
    const cloned = estate.add({ name: to, path, memory, processors, running: true, disks });
    for (const disk of disks) {
      const device = estate.disk(id, disk.name);
      for (const unit of device.state.holds)
        await estate.write(cloned.id, disk.name, unit * PART, device.unit(unit));
    }
  }

  /** Somebody deletes a guest on its host. */
  remove(name: DemoEstate, guest: string): void {
    this.estate(name).remove(this.guest(name, guest).id);
  }

  /** A host restarts without its record of changes. */
  loseTrack(name: DemoEstate): void {
    for (const { id } of this.estate(name).guests)
      this.estate(name).forget(id, "change tracking was reset when the host lost power");
  }

  private contentOf = ({ id }: GuestState): string => join(this.folder, "guests", id);

  private put(guest: GuestState, path: string, text: string, at: Date): void {
    const file = join(this.contentOf(guest), path);
    writeFileSync(file, text);
    utimesSync(file, at, at);
  }

  private write(guest: GuestState, service: string, file: string, at: Date): void {
    let text = "";
    for (let line = 0; line < 60; line += 1)
      text += `${line + 1};${10_000 + this.chance.below(90_000)};${this.chance.of(["open", "closed", "waiting"])}\n`;
    this.put(guest, `srv/${service}/${file}`, text, at);
  }

  /** Makes the file system of what it contains, and writes the blocks that differ, as a guest would. */
  private async settle(name: DemoEstate, guest: GuestState): Promise<void> {
    const image = join(this.folder, "guest.img");
    execFileSync(
      "/sbin/mke2fs",
      [
        "-q",
        "-F",
        ...["-t", "ext4", "-L", guest.name.slice(0, 16), "-U", guest.id],
        ...["-E", `hash_seed=${guest.id},root_owner=0:0`],
        ...["-d", this.contentOf(guest), image, `${PARTITION / 1024}k`],
      ],
      { stdio: "ignore" },
    );
    const estate = this.estate(name);
    const device = estate.disk(guest.id, "disk-0");
    const handle = openSync(image, "r");
    try {
      const now = Buffer.alloc(PART);
      for (let at = 0; at < PARTITION; at += PART) {
        const length = readSync(handle, now, 0, PART, at);
        const part = now.subarray(0, length);
        if (part.equals(await device.read(PARTITION_AT + at, length))) continue;
        await device.write(PARTITION_AT + at, part);
      }
    } finally {
      closeSync(handle);
      rmSync(image);
    }
    estate.save();
  }
}

/** A table with one partition that takes all but the first mebibyte. */
function partitionTable(): Buffer {
  const sector = Buffer.alloc(SECTOR);
  sector[446] = 0x80;
  sector[450] = LINUX;
  sector.writeUInt32LE(PARTITION_AT / SECTOR, 454);
  sector.writeUInt32LE(PARTITION / SECTOR, 458);
  sector.writeUInt16LE(0xaa55, 510);
  return sector;
}
