import { randomBytes } from "node:crypto";
import { readFileSync, writeFileSync } from "node:fs";
import { join } from "node:path";
import { afterAll, beforeAll, describe, expect, it } from "vitest";
import { serveNbd } from "@/disks/server";
import { storedDevice } from "@/disks/stored";
import { Estate } from "@/standins/host/estate";
import { HostServer } from "@/standins/host/server";
import { folderEntries } from "@/store/read/browse";
import { byteString } from "@/store/tree/tree";
import { freshFolder, type Snapped, snap, TestDepot } from "../../../tests/depot";
import { run } from "../../../tests/disk-tools";
import { bootSector, Libvirt, whyNoLibvirt } from "../../../tests/libvirt";
import { until } from "../../../tests/test-console";
import type { RestoreWork } from "../network";
import { diskOf, guestOf, insideGuest } from "./browse";
import { GUEST_ACCESS } from "./connect";
import type { GuestSettings } from "./settings";
import { guestWhat } from "./what";

const MIB = 1024 * 1024;
/** Description and definition are read anew each time. */
const TEXTS = 16 * 1024;
const SOURCE = "0d6f0c7e-5a55-4c5e-9a39-5d0c3c3f6f11";
const missing = whyNoLibvirt();
if (missing) console.warn(`skipped: guests of libvirt; ${missing}`);

describe.skipIf(missing)("guests of a libvirt host, which nobody here wrote", () => {
  let host: Libvirt;
  let guest: string;
  const depot = new TestDepot();
  const first = randomBytes(3 * MIB);
  beforeAll(async () => {
    host = await Libvirt.start();
    const system = host.image("till-1.qcow2", "qcow2", "64M", [
      [0, bootSector()],
      [20 * MIB, first],
    ]);
    const data = host.image("till-1-data.raw", "raw", "16M", [[MIB, randomBytes(MIB)]]);
    guest = host.define("till-1", [
      { path: system, format: "qcow2" },
      { path: data, format: "raw" },
    ]);
  }, 60_000);
  afterAll(() => host?.stop());

  const connection = () => ({
    address: host.address,
    settings: { transfer: "plain", region: "on site" } as GuestSettings,
    secret: "",
  });
  async function taken(previous: Snapped | null, what: object = {}, id = guest) {
    const opened = await GUEST_ACCESS.open(connection(), id, guestWhat.parse(what), {
      sourceId: SOURCE,
      previous: previous && { store: depot.reader(), root: previous.root },
    });
    const snapped = await snap(depot, "", {
      folders: ["/"],
      reader: opened.reader,
      previous: previous?.previous ?? null,
    });
    return { ...snapped, reset: opened.reset, said: opened.notes ?? [] };
  }
  /** Compares a disk of a point with an image that QEMU reads. */
  async function same(point: Snapped, disk: string, image: string, format: string): Promise<void> {
    const stored = await diskOf(depot.reader(), point.root, disk);
    const server = await serveNbd(
      { host: "127.0.0.1", port: 0 },
      { names: () => [], open: async () => ({ device: storedDevice(stored!), close: () => {} }) },
    );
    const address = `nbd://127.0.0.1:${(server.at as { port: number }).port}/x`;
    try {
      expect(await run("qemu-img", "compare", "-U", "-f", "raw", "-F", format, address, image)).toContain(
        "identical",
      );
    } finally {
      await server.close();
    }
  }
  const image = (name: string) => join(host.disks(), name);
  const work = (point: Snapped, folder: string | null): RestoreWork & { readonly lines: string[] } => {
    const lines: string[] = [];
    return {
      items: [{ store: depot.reader(), root: point.root, path: byteString("/"), momentLabel: "" }],
      folder,
      expect: () => {},
      log: (_level, _code, _path, message) => {
        lines.push(message);
      },
      progress: { items: 0, bytes: 0 },
      signal: new AbortController().signal,
      lines,
    };
  };

  it("is tested step by step, and lists its guests", async () => {
    const { steps, found } = await GUEST_ACCESS.test(connection());
    expect(steps.map(({ ok }) => ok)).toEqual([true, true, true]);
    expect(steps[1]!.message).toMatch(/^QEMU \d/);
    expect(found).toEqual([{ id: guest, name: expect.stringMatching(/^till-1 on /) }]);
    const nowhere = await GUEST_ACCESS.test({
      ...connection(),
      address: "qemu+unix:///session?socket=/nowhere/libvirt-sock",
    });
    expect(nowhere).toMatchObject({ ok: false, code: "source.not-reached" });
  });

  it("is read while it writes: only what changed, and exactly what it was", async () => {
    host.virsh("start", "till-1");
    await until(
      async () => host.said("till-1").includes("guest is up"),
      "the guest does not come up",
      60_000,
    );
    const whole = await taken(null);
    expect(whole.reset).toBeNull();
    expect(whole.said.join()).toContain("as after a power cut: no guest agent answers");
    const names: string[] = [];
    for await (const { name } of folderEntries(depot.reader(), whole.root)) names.push(name);
    expect(names).toEqual(["definition.xml", "guest.json", "vda.raw", "vdb.raw"]);
    // of 80 MiB, what holds something
    expect(whole.figures.bytesRead).toBeLessThan(30 * MIB);
    await new Promise((resolve) => setTimeout(resolve, 1500));
    const more = await taken(whole);
    // the raw disk keeps no track of changes, which is said
    expect(more.reset).toContain("no changes are known of vdb (raw)");
    host.virsh("suspend", "till-1");
    const last = await taken(more, { excludeDisks: ["vdb"] });
    expect(last.reset).toBeNull();
    expect(last.figures.bytesRead).toBeGreaterThan(0);
    expect(last.figures.bytesRead).toBeLessThan(MIB + TEXTS);
    await same(last, "vda", image("till-1.qcow2"), "qcow2");
    await same(more, "vdb", image("till-1-data.raw"), "raw");
    expect(host.leftovers(guest)).toEqual({
      files: [],
      checkpoints: [expect.any(String), expect.any(String)],
    });
    host.virsh("resume", "till-1");
    const nothing = await taken(last, { excludeDisks: ["vdb"] });
    expect(host.leftovers(guest).checkpoints).toHaveLength(2);
    expect(host.leftovers(guest).checkpoints).toContain(
      (await guestOf(depot.reader(), nothing.root))!.checkpoint,
    );
  }, 120_000);

  it("takes away what a run that was killed left behind, and goes on from the last recovery point", async () => {
    const before = await taken(null, { excludeDisks: ["vdb"] });
    // nothing ends this one
    await GUEST_ACCESS.open(connection(), guest, guestWhat.parse({ excludeDisks: ["vdb"] }), {
      sourceId: SOURCE,
      previous: { store: depot.reader(), root: before.root },
    });
    expect(host.leftovers(guest).files.length).toBeGreaterThan(0);
    const after = await taken(before, { excludeDisks: ["vdb"] });
    expect(after.reset).toBeNull();
    expect(after.figures.bytesRead).toBeLessThan(MIB + TEXTS);
    expect(host.leftovers(guest).files).toEqual([]);
  }, 60_000);

  it("reads everything, and says why, when the host lost track", async () => {
    const before = await taken(null, { excludeDisks: ["vdb"] });
    host.kill("till-1");
    await until(async () => host.virsh("domstate", "till-1") === "shut off", "the guest is not off");
    const lost = await taken(before, { excludeDisks: ["vdb"] });
    expect(lost.reset).toMatch(/All disks are read: /);
    expect(lost.figures.bytesRead).toBeGreaterThan(3 * MIB);
    await same(lost, "vda", image("till-1.qcow2"), "qcow2");
    // and knows again from then on
    const known = await taken(lost, { excludeDisks: ["vdb"] });
    expect(known.reset).toBeNull();
    expect(known.figures.bytesRead).toBeLessThan(TEXTS);
    const [checkpoint] = host.leftovers(guest).checkpoints.slice(-1);
    for (const name of host.leftovers(guest).checkpoints)
      host.virsh("checkpoint-delete", guest, name, "--metadata");
    expect((await taken(known, { excludeDisks: ["vdb"] })).reset).toContain("no longer has the checkpoint");
    expect(checkpoint).toMatch(/^deep-keep-0d6f0c7e5a55-/);
  }, 120_000);

  it("is read when it is powered off, and stays so", async () => {
    expect(host.virsh("domstate", "till-1")).toBe("shut off");
    const before = await taken(null, { excludeDisks: ["vdb"] });
    host.write(image("till-1.qcow2"), "qcow2", 40 * MIB, randomBytes(MIB));
    const after = await taken(before, { excludeDisks: ["vdb"] });
    expect(after.reset).toBeNull();
    expect(after.figures.bytesRead - MIB).toBeLessThan(TEXTS);
    await same(after, "vda", image("till-1.qcow2"), "qcow2");
    expect(host.virsh("domstate", "till-1")).toBe("shut off");
    expect(await insideGuest(depot.reader(), after.root)).toMatchObject({
      name: "till-1",
      memory: 32 * MIB,
      processors: 1,
      disks: [{ name: "vda", size: 64 * MIB, table: "mbr", partitions: [] }],
    });
  }, 60_000);

  it("is restored as another guest that comes up, once under a name", async () => {
    const point = await taken(null);
    const told = work(point, "till-2");
    expect(await GUEST_ACCESS.restore(connection(), guest, told)).toMatchObject({ files: 1, cautions: 0 });
    expect(host.virsh("domstate", "till-2")).toBe("shut off");
    expect(host.virsh("domuuid", "till-2")).not.toBe(guest);
    const paths = host
      .virsh("domblklist", "till-2")
      .split("\n")
      .map((line) => line.trim().split(/\s+/)[1]!);
    await same(point, "vda", paths[0]!, "qcow2");
    await same(point, "vdb", paths[1]!, "qcow2");
    host.virsh("start", "till-2");
    // what it runs writes
    await until(async () => (await host.writes("till-2")) > 3, "the restored guest does not come up", 60_000);
    await expect(GUEST_ACCESS.restore(connection(), guest, work(point, "till-2"))).rejects.toMatchObject({
      code: "restore.exists",
    });
    host.virsh("destroy", "till-2");
    // it keeps track of its changes from the first run on
    const id = host.virsh("domuuid", "till-2");
    const again = await taken(await taken(null, {}, id), {}, id);
    expect(again).toMatchObject({ reset: null, figures: { filesUnchanged: 2 } });
  }, 120_000);

  it("takes the place of the original only when that is off, and keeps its disks", async () => {
    const point = await taken(null, {});
    host.virsh("start", "till-1");
    await expect(GUEST_ACCESS.restore(connection(), guest, work(point, null))).rejects.toMatchObject({
      code: "restore.in-use",
    });
    host.virsh("destroy", "till-1");
    host.write(image("till-1.qcow2"), "qcow2", 20 * MIB, randomBytes(MIB));
    const told = work(point, null);
    await GUEST_ACCESS.restore(connection(), guest, told);
    expect(told.lines.join("\n")).toContain(image("till-1.qcow2"));
    expect(host.virsh("domuuid", "till-1")).toBe(guest);
    const [path] = host
      .virsh("domblklist", "till-1")
      .split("\n")
      .map((line) => line.trim().split(/\s+/)[1]!);
    expect(path).not.toBe(image("till-1.qcow2"));
    await same(point, "vda", path!, "qcow2");
    // the next run cannot take the new disks for the old ones
    const next = await taken(point, {});
    expect(next.reset).toContain("no longer has the checkpoint");
  }, 120_000);

  it("runs from the depot within seconds, writes, and needs the depot no more when its data is copied", async () => {
    const point = await taken(null);
    const told = { ...work(point, "till-3"), start: true, runId: "5f0c0c7e-5a55-4c5e-9a39-5d0c3c3f6f11" };
    const lines: string[] = [];
    let up = 0;
    const began = Date.now();
    const watching = until(
      async () => (await host.writes("till-3")) > 3,
      "the guest does not come up",
      60_000,
    ).then(() => {
      up = Date.now() - began;
    });
    await GUEST_ACCESS.restore(connection(), guest, {
      ...told,
      log: (_level, _code, _path, message) => lines.push(message),
    });
    await watching;
    expect(lines.join("\n")).toMatch(/till-3 runs from the depot[\s\S]*till-3 no longer needs the depot/);
    expect(up).toBeLessThan(30_000);
    expect(host.virsh("domstate", "till-3")).toBe("running");
    expect(host.virsh("dumpxml", "till-3", "--inactive")).not.toContain("nbd");
    // it goes on alone: started anew, and with what the point had
    host.virsh("destroy", "till-3");
    const [path] = host
      .virsh("domblklist", "till-3")
      .split("\n")
      .map((line) => line.trim().split(/\s+/)[1]!);
    expect(await run("qemu-io", "-r", "-f", "qcow2", "-c", "read 20M 3M", path!)).toContain("3 MiB");
    const stored = await diskOf(depot.reader(), point.root, "vda");
    const there = join(host.folder, "there");
    await run("qemu-img", "convert", "-O", "raw", path!, there);
    const bytes = readFileSync(there);
    expect(bytes.subarray(20 * MIB, 24 * MIB).equals(await stored!.read(20 * MIB, 4 * MIB))).toBe(true);
    // it wrote from 4 MiB on
    expect(bytes.subarray(4 * MIB, 4 * MIB + 512).equals(await stored!.read(4 * MIB, 512))).toBe(false);
    host.virsh("start", "till-3");
    expect(host.virsh("domstate", "till-3")).toBe("running");
    host.virsh("destroy", "till-3");
    expect(host.leftovers(guest).files.filter((name) => name.endsWith(".sock"))).toEqual([]);
  }, 120_000);

  it("is discarded when a person stops it, and goes on after the console was interrupted", async () => {
    const point = await taken(null, {});
    const runId = "6a0c0c7e-5a55-4c5e-9a39-5d0c3c3f6f11";
    const attempt = (reason: Error | null) => {
      const stop = new AbortController();
      return GUEST_ACCESS.restore(connection(), guest, {
        ...work(point, "till-4"),
        start: true,
        runId,
        signal: stop.signal,
        log: (_level, _code, _path, message) => {
          if (reason && message.includes("runs from the depot")) stop.abort(reason);
        },
      });
    };
    await expect(attempt(new Error("stopped"))).rejects.toThrow("stopped");
    expect(host.tried("domuuid", "till-4")).toBeNull();
    expect(host.leftovers(guest).files.filter((name) => name.includes("6a0c0c7e5a55"))).toEqual([]);
    const superseded = Object.assign(new Error("another attempt"), { name: "Superseded" });
    await expect(attempt(superseded)).rejects.toThrow("another attempt");
    expect(host.tried("domuuid", "till-4")).not.toBeNull();
    const image = host.virsh("domblklist", "till-4").split("\n")[0]!.trim().split(/\s+/)[1]!;
    await attempt(null);
    expect(host.virsh("domstate", "till-4")).toBe("running");
    expect(host.virsh("domblklist", "till-4")).toContain(image);
    expect(host.virsh("dumpxml", "till-4", "--inactive")).not.toContain("nbd");
    host.virsh("destroy", "till-4");
    // another run may not take it over
    await expect(
      GUEST_ACCESS.restore(connection(), guest, {
        ...work(point, "till-4"),
        start: true,
        runId: "7b0c0c7e-5a55-4c5e-9a39-5d0c3c3f6f11",
      }),
    ).rejects.toMatchObject({ code: "restore.exists" });
  }, 120_000);

  it("is left with what it wrote when the copy fails for another reason than a person", async () => {
    const point = await taken(null, {});
    const failed = GUEST_ACCESS.restore(connection(), guest, {
      ...work(point, "till-5"),
      start: true,
      runId: "9d0c0c7e-5a55-4c5e-9a39-5d0c3c3f6f11",
      log: (_level, _code, _path, message) => {
        // whoever else manages the host ends it
        if (message.includes("runs from the depot")) host.virsh("destroy", "till-5");
      },
    });
    await expect(failed).rejects.toMatchObject({
      code: "restore.cannot-write",
      message: expect.stringContaining("till-5 is left with what it has written"),
    });
    expect(host.virsh("domstate", "till-5")).toBe("shut off");
    host.virsh("undefine", "till-5");
  }, 60_000);

  it("keeps disks that are excluded, in place, and does not call them replaced", async () => {
    const point = await taken(null, { excludeDisks: ["vdb"] });
    const before = host
      .virsh("domblklist", "till-1")
      .split("\n")
      .map((line) => line.trim().split(/\s+/));
    const told = work(point, null);
    await GUEST_ACCESS.restore(connection(), guest, told);
    const after = host
      .virsh("domblklist", "till-1")
      .split("\n")
      .map((line) => line.trim().split(/\s+/));
    expect(after.map(([name]) => name)).toEqual(["vda", "vdb"]);
    expect(after[1]).toEqual(before[1]);
    expect(after[0]![1]).not.toBe(before[0]![1]);
    expect(told.lines.join("\n")).toContain(before[0]![1]);
    expect(told.lines.join("\n")).not.toContain(before[1]![1]);
  }, 60_000);

  it("leaves a guest alone that somebody starts while it is read powered off", async () => {
    const { reader } = await GUEST_ACCESS.open(connection(), guest, guestWhat.parse({}), {
      sourceId: SOURCE,
      previous: null,
    });
    expect(host.virsh("domstate", "till-1")).toBe("paused");
    host.virsh("resume", "till-1");
    await reader.end!();
    expect(host.virsh("domstate", "till-1")).toBe("running");
    host.virsh("destroy", "till-1");
  }, 60_000);

  it("does not end the backup of another console", async () => {
    const other = await GUEST_ACCESS.open(connection(), guest, guestWhat.parse({}), {
      sourceId: "99999999-5a55-4c5e-9a39-5d0c3c3f6f11",
      previous: null,
    });
    await expect(taken(null)).rejects.toMatchObject({
      code: "source.snapshot-failed",
      message: expect.stringContaining("another backup of this guest is under way"),
    });
    await other.reader.end!();
    expect((await taken(null)).reset).toBeNull();
  }, 60_000);

  it("says which disk is not read, where it is on storage of the network", async () => {
    const xml = host
      .virsh("dumpxml", "till-1", "--inactive")
      .replace(/<uuid>.*<\/uuid>/, "")
      .replace("<name>till-1</name>", "<name>till-net</name>")
      .replace(
        /<source file='[^']*till-1-data[^']*'\/>|<source file='[^']*vdb[^']*'\/>/,
        "<source protocol='rbd' name='pool/x'><host name='127.0.0.1'/></source>",
      )
      .replace(/type='file' device='disk'>(?=[\s\S]{0,90}protocol='rbd')/, "type='network' device='disk'>");
    const path = join(host.folder, "net.xml");
    writeFileSync(path, xml);
    host.virsh("define", path);
    const id = host.virsh("domuuid", "till-net");
    await expect(taken(null, {}, id)).rejects.toMatchObject({
      code: "source.snapshot-failed",
      message: expect.stringMatching(/vdb of till-net is on network storage.*exclude it/),
    });
    host.virsh("undefine", "till-net");
  }, 60_000);

  it("goes to a host of another kind, and comes from there", async () => {
    const estate = new Estate(join(freshFolder("hosts"), "north"));
    const server = new HostServer(new Map([["north", estate]]));
    const address = `${await server.listen()}/north`;
    const service = { ...connection(), address, secret: estate.token };
    try {
      const point = await taken(null, {});
      await GUEST_ACCESS.restore(service, "none", work(point, "till-there"));
      const there = estate.guests.find(({ name }) => name === "till-there")!;
      expect(there).toMatchObject({ memory: 32 * MIB, processors: 1 });
      const disk = estate.disk(there.id, "vda");
      const stored = await diskOf(depot.reader(), point.root, "vda");
      expect((await disk.read(0, disk.size)).equals(await stored!.read(0, stored!.size))).toBe(true);
      // and back, with disks that are named otherwise there
      const guestThere = estate.add({
        name: "from-there",
        path: ["host-1"],
        memory: 32 * MIB,
        processors: 1,
        disks: [{ name: "disk-0", size: 64 * MIB }],
      });
      await estate.write(guestThere.id, "disk-0", 0, bootSector());
      const opened = await GUEST_ACCESS.open(service, guestThere.id, guestWhat.parse({}), {
        sourceId: SOURCE,
        previous: null,
      });
      const back = await snap(depot, "", { folders: ["/"], reader: opened.reader });
      await GUEST_ACCESS.restore(connection(), guest, work(back, "from-there"));
      host.virsh("start", "from-there");
      await until(async () => (await host.writes("from-there")) > 3, "the guest does not come up", 60_000);
      host.virsh("destroy", "from-there");
      await GUEST_ACCESS.restore(connection(), guest, {
        ...work(back, "from-there-now"),
        start: true,
        runId: "8c0c0c7e-5a55-4c5e-9a39-5d0c3c3f6f11",
      });
      expect(host.virsh("domstate", "from-there-now")).toBe("running");
      await until(
        async () => (await host.writes("from-there-now")) > 3,
        "the guest does not come up",
        60_000,
      );
      host.virsh("destroy", "from-there-now");
      await expect(
        GUEST_ACCESS.restore(service, "none", { ...work(point, "x"), start: true, runId: "r" }),
      ).rejects.toMatchObject({ code: "restore.cannot-write" });
    } finally {
      await server.close();
    }
  }, 180_000);

  it("is not reached on the console's own machine unless the operator allows it", async () => {
    process.env.DEEPKEEP_LOCAL_HYPERVISOR = "";
    try {
      expect(await GUEST_ACCESS.test(connection())).toMatchObject({ ok: false, code: "address.forbidden" });
    } finally {
      process.env.DEEPKEEP_LOCAL_HYPERVISOR = "yes";
    }
  });

  it("leaves nothing on the host when a restore is stopped or fails", async () => {
    const point = await taken(null, {});
    const volumes = () => host.virsh("vol-list", "disks").split("\n").length;
    const before = volumes();
    const stop = new AbortController();
    const stopped = { ...work(point, "till-9"), signal: stop.signal };
    const progress = stopped.progress;
    Object.defineProperty(progress, "bytes", {
      get: () => 0,
      set: () => stop.abort(new Error("stopped by a technician")),
    });
    await expect(GUEST_ACCESS.restore(connection(), guest, stopped)).rejects.toThrow(
      "stopped by a technician",
    );
    expect(volumes()).toBe(before);
    expect(host.tried("domuuid", "till-9")).toBeNull();
    await expect(GUEST_ACCESS.restore(connection(), guest, work(point, "-bad;name"))).rejects.toMatchObject({
      code: "restore.cannot-write",
    });
    await expect(
      GUEST_ACCESS.restore(connection(), guest, {
        ...work(point, "till-9"),
        items: [{ store: depot.reader(), root: point.root, path: "/vda.raw", momentLabel: "" }],
      }),
    ).rejects.toThrow("choose the whole guest");
  }, 60_000);
});
