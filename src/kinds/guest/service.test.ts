import { randomBytes } from "node:crypto";
import { join } from "node:path";
import { afterAll, describe, expect, it } from "vitest";
import { Estate } from "@/standins/host/estate";
import { HostServer } from "@/standins/host/server";
import { freshFolder, type Snapped, snap, TestDepot } from "../../../tests/depot";
import type { RestoreWork } from "../network";
import { diskOf, guestOf } from "./browse";
import { GUEST_ACCESS } from "./connect";
import type { GuestSettings } from "./settings";
import { guestWhat } from "./what";

const MIB = 1024 * 1024;
const TEXTS = 16 * 1024;
const SOURCE = "0d6f0c7e-5a55-4c5e-9a39-5d0c3c3f6f11";
const closing: (() => unknown)[] = [];
afterAll(async () => {
  for (const close of closing.reverse()) await close();
});

async function world() {
  const folder = freshFolder("hosts");
  const estate = new Estate(join(folder, "north"));
  const guest = estate.add({
    name: "rents-1",
    path: ["West", "Cluster North", "host-1"],
    memory: 512 * MIB,
    processors: 2,
    running: true,
    disks: [
      { name: "disk-0", size: 64 * MIB },
      { name: "disk-1", size: 8 * MIB + 512 },
    ],
  });
  await estate.write(guest.id, "disk-0", 0, randomBytes(2 * MIB));
  await estate.write(guest.id, "disk-0", 30 * MIB + 5, randomBytes(MIB));
  await estate.write(guest.id, "disk-1", 8 * MIB - 100, randomBytes(612));
  const server = new HostServer(new Map([["north", estate]]));
  const origin = await server.listen();
  closing.push(() => server.close());
  const connection = {
    address: `${origin}/north`,
    settings: { transfer: "plain", region: "on site" } as GuestSettings,
    secret: estate.token,
  };
  const depot = new TestDepot();
  const opened = (previous: Snapped | null, what: object = {}) =>
    GUEST_ACCESS.open(connection, guest.id, guestWhat.parse(what), {
      sourceId: SOURCE,
      previous: previous && { store: depot.reader(), root: previous.root },
    });
  const taken = async (previous: Snapped | null, what: object = {}) => {
    const { reader, reset } = await opened(previous, what);
    const snapped = await snap(depot, "", { folders: ["/"], reader, previous: previous?.previous ?? null });
    return { ...snapped, reset };
  };
  const content = async (point: Snapped, disk: string) => {
    const stored = await diskOf(depot.reader(), point.root, disk);
    return stored!.read(0, stored!.size);
  };
  const live = (id: string, disk: string) => {
    const device = estate.disk(id, disk);
    return device.read(0, device.size);
  };
  const work = (point: Snapped, name: string | null): RestoreWork & { lines: string[] } => {
    const lines: string[] = [];
    return {
      items: [{ store: depot.reader(), root: point.root, path: "/", momentLabel: "" }],
      folder: name,
      expect: () => {},
      log: (_level, _code, _path, message) => {
        lines.push(message);
      },
      progress: { items: 0, bytes: 0 },
      signal: new AbortController().signal,
      lines,
    };
  };
  return { estate, guest, connection, depot, opened, taken, content, live, work };
}

describe("guests of hosts with the host API", () => {
  it("are listed by a test, which names the step that fails", async () => {
    const { connection, guest } = await world();
    const good = await GUEST_ACCESS.test(connection);
    expect(good).toMatchObject({ ok: true, found: [{ id: guest.id, name: "rents-1 on host-1" }] });
    const wrong = await GUEST_ACCESS.test({ ...connection, secret: "not it" });
    expect(wrong).toMatchObject({ ok: false, code: "source.signin-refused" });
    expect(wrong.steps.map(({ ok }) => ok)).toEqual([true, false]);
    const away = await GUEST_ACCESS.test({ ...connection, address: "http://127.0.0.1:9/north" });
    expect(away).toMatchObject({ ok: false, code: "source.not-reached" });
  });

  it("are read whole, then where they changed, also while they write", async () => {
    const { estate, guest, taken, content, live, depot, opened } = await world();
    const first = await taken(null);
    expect(first.reset).toBeNull();
    expect((await content(first, "disk-0")).equals(await live(guest.id, "disk-0"))).toBe(true);
    expect((await content(first, "disk-1")).equals(await live(guest.id, "disk-1"))).toBe(true);
    await estate.write(guest.id, "disk-0", 50 * MIB, randomBytes(1000));
    const second = await taken(first);
    expect(second.reset).toBeNull();
    expect(second.figures.bytesRead).toBeLessThan(256 * 1024 + TEXTS);
    const before = await live(guest.id, "disk-0");
    expect((await content(second, "disk-0")).equals(before)).toBe(true);
    // written to between snapshot and reading
    const { reader } = await opened(second);
    await estate.write(guest.id, "disk-0", 30 * MIB, randomBytes(MIB));
    const third = await snap(depot, "", { folders: ["/"], reader, previous: second.previous });
    expect((await content(third, "disk-0")).equals(before)).toBe(true);
    const fourth = await taken(third);
    expect((await content(fourth, "disk-0")).equals(await live(guest.id, "disk-0"))).toBe(true);
    expect(estate.snapshots.size).toBe(0);
    expect(estate.guest(guest.id).checkpoints).toHaveLength(2);
  });

  it("are read whole with a reason when the host lost track", async () => {
    const { estate, guest, taken } = await world();
    const first = await taken(null);
    estate.forget(guest.id, "change tracking was reset when the host restarted");
    const second = await taken(first);
    expect(second.reset).toBe("All disks are read: change tracking was reset when the host restarted.");
    expect(second.figures.bytesRead).toBeGreaterThan(3 * MIB);
    expect((await taken(second)).reset).toBeNull();
  });

  it("leave excluded disks out, and a snapshot that nobody ended is replaced", async () => {
    const { estate, guest, taken, opened, depot } = await world();
    const some = await taken(null, { excludeDisks: ["disk-1"] });
    expect((await guestOf(depot.reader(), some.root))!.disks.map(({ name }) => name)).toEqual(["disk-0"]);
    await opened(null);
    expect(estate.snapshots.size).toBe(1);
    await taken(some);
    expect(estate.snapshots.size).toBe(0);
    await expect(opened(null, { excludeDisks: ["*"] })).rejects.toMatchObject({
      code: "source.snapshot-failed",
    });
    expect(estate.guest(guest.id).disks).toHaveLength(2);
  });

  it("are restored as another guest, or in place when they are off; what fails leaves nothing", async () => {
    const { estate, guest, connection, taken, content, live, work } = await world();
    const point = await taken(null);
    await GUEST_ACCESS.restore(connection, guest.id, work(point, "rents-2"));
    const other = estate.guests.find(({ name }) => name === "rents-2")!;
    expect(other).toMatchObject({ running: false, memory: 512 * MIB, processors: 2 });
    for (const disk of ["disk-0", "disk-1"])
      expect((await live(other.id, disk)).equals(await content(point, disk))).toBe(true);
    expect(estate.disk(other.id, "disk-0").state.holds.length).toBeLessThan(80);
    await expect(GUEST_ACCESS.restore(connection, guest.id, work(point, "rents-2"))).rejects.toMatchObject({
      code: "restore.exists",
    });
    await expect(GUEST_ACCESS.restore(connection, guest.id, work(point, null))).rejects.toMatchObject({
      code: "restore.in-use",
    });
    await estate.write(guest.id, "disk-0", 0, randomBytes(MIB));
    estate.power(guest.id, false);
    const stop = new AbortController();
    const stopped = { ...work(point, null), signal: stop.signal };
    Object.defineProperty(stopped.progress, "bytes", {
      get: () => 0,
      set: () => stop.abort(new Error("stopped")),
    });
    const changed = await live(guest.id, "disk-0");
    await expect(GUEST_ACCESS.restore(connection, guest.id, stopped)).rejects.toThrow("stopped");
    expect((await live(guest.id, "disk-0")).equals(changed)).toBe(true);
    const told = work(point, null);
    await GUEST_ACCESS.restore(connection, guest.id, told);
    expect((await live(guest.id, "disk-0")).equals(await content(point, "disk-0"))).toBe(true);
    expect(told.lines.join("\n")).toContain(`${guest.id}-disk-0.raw`);
    // the next run does not take the new disks for the old ones
    expect((await taken(point)).reset).toContain("the disks were replaced by a restore");
  });

  it("keep disks that are excluded when they are restored in place", async () => {
    const { estate, guest, connection, taken, live, work } = await world();
    const point = await taken(null, { excludeDisks: ["disk-1"] });
    const other = await live(guest.id, "disk-1");
    estate.power(guest.id, false);
    const told = work(point, null);
    await GUEST_ACCESS.restore(connection, guest.id, told);
    expect(estate.guest(guest.id).disks.map(({ name }) => name)).toEqual(["disk-0", "disk-1"]);
    expect((await live(guest.id, "disk-1")).equals(other)).toBe(true);
    expect(told.lines.join("\n")).not.toContain("disk-1.raw");
    // a disk that the guest no longer has cannot be replaced
    const both = await taken(null);
    estate.guest(guest.id).disks.pop();
    await expect(GUEST_ACCESS.restore(connection, guest.id, work(both, null))).rejects.toMatchObject({
      code: "restore.in-use",
    });
  });

  it("are not believed when their disks have names or lengths that no disk has", async () => {
    for (const [name, size] of [
      ["../../etc", 1024 * 1024],
      ["-x", 1024 * 1024],
      ["a/b", 1024 * 1024],
    ] as const) {
      const { estate, connection } = await world();
      const { id } = estate.add({ name: "odd", path: [], memory: 1, processors: 1, disks: [] });
      estate.guest(id).disks.push({ name, size, file: "odd.raw", holds: [] });
      await expect(
        GUEST_ACCESS.open(connection, id, guestWhat.parse({}), { sourceId: SOURCE, previous: null }),
      ).rejects.toMatchObject({ code: "source.unreadable" });
    }
    const { estate, guest, opened, depot } = await world();
    const { reader } = await opened(null);
    for (const { disks } of estate.snapshots.values())
      for (const disk of disks.values()) Object.defineProperty(disk, "size", { value: 2 ** 52 });
    await expect(snap(depot, "", { folders: ["/"], reader })).rejects.toMatchObject({
      code: "source.unreadable",
      message: expect.stringContaining("claims to have"),
    });
    expect(estate.guest(guest.id).disks).toHaveLength(2);
  });

  it("name the host and the disk when a snapshot breaks off", async () => {
    const { estate, opened, depot } = await world();
    const { reader } = await opened(null);
    const open = reader.openDisk!.bind(reader);
    reader.openDisk = async (path) => {
      const disk = await open(path);
      return {
        ...disk,
        size: disk.size,
        readInto: async (into, offset) => {
          for (const { disks } of estate.snapshots.values())
            for (const one of disks.values())
              one.read = () => Promise.reject(new Error("the storage does not answer"));
          return disk.readInto(into, offset);
        },
      };
    };
    await expect(snap(depot, "", { folders: ["/"], reader })).rejects.toMatchObject({
      code: "source.snapshot-failed",
      message: expect.stringContaining("disk-0: the storage does not answer"),
    });
    expect(estate.snapshots.size).toBe(0);
  });
});
