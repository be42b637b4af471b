import { execFileSync } from "node:child_process";
import { randomBytes } from "node:crypto";
import { mkdirSync, readFileSync, writeFileSync } from "node:fs";
import { join } from "node:path";
import { afterAll, beforeAll, describe, expect, it } from "vitest";
import { createClient, type FileStat } from "webdav";
import { Estate } from "@/standins/host/estate";
import { HostServer } from "@/standins/host/server";
import { backUp, makeClient, restore, setClauses, type TestClient } from "../client";
import { freshFolder } from "../depot";
import { run, whyNoDiskTools } from "../disk-tools";
import { TestConsole } from "../test-console";
import { extImage } from "../volumes";

/** Guests of a client's hypervisor hosts through the console. */
const MIB = 1024 * 1024;
let console_: TestConsole;
let client: TestClient;
let estate: Estate;
let server: HostServer;
let origin: string;
let connectionId: string;
let guestId: string;
let sourceId: string;
let pointId: string;

const connect = (change: object = {}) =>
  console_.call<{
    errors: { field: string; message: string }[];
    connection: { id: string; settings: object };
    sources: number;
  }>("POST", `/clients/${client.id}/connections`, {
    kind: "guest",
    siteId: client.siteId,
    name: "Bakery hosts",
    address: `${origin}/bakery`,
    token: estate.token,
    transfer: "plain",
    region: "north harbour",
    ...change,
  });
interface Source {
  readonly id: string;
  readonly kind: string;
  readonly name: string;
  readonly policyId: string | null;
}
const guests = async () =>
  (await console_.ok<{ sources: Source[] }>("GET", `/sources?client=${client.id}`)).sources.filter(
    ({ kind }) => kind === "guest",
  );

beforeAll(async () => {
  console_ = await TestConsole.start();
  console_.startViewer();
  client = await makeClient(console_, "Vossel & Daughters Bakery");
  estate = new Estate(join(freshFolder("hosts"), "bakery"));
  ({ id: guestId } = estate.add({
    name: "till-1",
    path: ["Bakery", "host-1"],
    memory: 512 * MIB,
    processors: 1,
    running: true,
    disks: [{ name: "disk-0", size: 32 * MIB }],
  }));
  await estate.write(guestId, "disk-0", 3 * MIB, randomBytes(2 * MIB));
  server = new HostServer(new Map([["bakery", estate]]));
  origin = await server.listen();
});
afterAll(async () => {
  await console_?.stop();
  await server?.close();
});

describe("a hypervisor host", () => {
  it.each([
    ["a port where nothing listens", { address: "http://127.0.0.1:2/bakery" }, "address"],
    ["an address that is none", { address: "bakery" }, "address"],
    [
      "an address that runs a program",
      { address: "qemu+ssh://host.example/system?command=/bin/sh" },
      "address",
    ],
    ["an address with an option for a program", { address: "qemu+ssh://-oProxyCommand=x/system" }, "address"],
    ["an address with a helper", { address: "qemu+ssh://host.example/system?netcat=/tmp/x" }, "address"],
    ["an address with a password", { address: "http://a:b@127.0.0.1/bakery" }, "address"],
    ["no token", { token: "" }, "token"],
    ["a wrong token", { token: "wrong" }, "token"],
    ["a token for libvirt", { address: "qemu+unix:///session?socket=/nowhere/sock" }, "token"],
    ["certificates that are none", { transfer: "tls", authority: "abc" }, "authority"],
    [
      "certificates that nobody verifies",
      { authority: "-----BEGIN CERTIFICATE-----\nx\n-----END CERTIFICATE-----" },
      "authority",
    ],
  ])("is refused with %s, at its field", async (_what, change, field) => {
    const answer = await connect(change);
    expect([answer.status, answer.body.errors?.[0]?.field]).toEqual([422, field]);
  });

  it("makes a source of each guest, and never shows the token", async () => {
    const answer = await connect();
    expect(answer.body).toMatchObject({ sources: 1 });
    expect(JSON.stringify(answer.body)).not.toContain(estate.token);
    connectionId = answer.body.connection.id;
    const [found] = await guests();
    expect(found).toMatchObject({ name: "till-1 on host-1", policyId: null });
    sourceId = found!.id;
  });

  it("shows guests that came and that went at the next look", async () => {
    const { id } = estate.add({
      name: "till-2",
      path: ["Bakery", "host-1"],
      memory: MIB,
      processors: 1,
      disks: [{ name: "disk-0", size: MIB }],
    });
    await console_.ok("POST", `/connections/${connectionId}/discoveries`);
    expect((await guests()).map(({ name }) => name)).toEqual(["till-1 on host-1", "till-2 on host-1"]);
    estate.remove(id);
    await console_.ok("POST", `/connections/${connectionId}/discoveries`);
    // without a recovery point nothing of it stays
    expect((await guests()).map(({ name }) => name)).toContain("till-1 on host-1");
  });
});

describe("a guest", () => {
  it("is backed up whole, then where it changed, and says when the host lost track", async () => {
    await setClauses(console_, client, { what: { guest: {} } });
    await console_.ok("PATCH", `/sources/${sourceId}`, { policyId: client.policyId });
    const first = await backUp(console_, sourceId);
    expect(first).toMatchObject({ outcome: "clean", figures: { files: 3 } });
    await estate.write(guestId, "disk-0", 20 * MIB, randomBytes(100));
    const second = await backUp(console_, sourceId);
    expect(second.outcome).toBe("clean");
    expect((second.figures as { bytesRead: number }).bytesRead).toBeLessThan(300 * 1024);
    pointId = second.figures.point!;
    estate.forget(guestId, "the host lost power");
    expect(await backUp(console_, sourceId)).toMatchObject({
      outcome: "caution",
      code: "change-tracking.reset",
    });
    expect(estate.snapshots.size).toBe(0);
  });

  it("is shown with its disks, and nothing of another kind is", async () => {
    const { guest } = await console_.ok<{ guest: object }>("GET", `/recovery-points/${pointId}/guest`);
    expect(guest).toMatchObject({
      name: "till-1",
      memory: 512 * MIB,
      quiesced: false,
      notQuiesced: "no guest agent answers",
      disks: [{ name: "disk-0", size: 32 * MIB, stored: expect.any(Number), table: null, partitions: [] }],
    });
    expect((await console_.call("GET", `/recovery-points/${pointId}/database`)).status).toBe(409);
  });

  it("is restored as a new guest, in place only when it is off, and verified by a drill's means", async () => {
    const items = [{ pointId, path: "/" }];
    const nameless = await console_.call<{ errors: { field: string }[] }>("POST", "/restores", {
      items,
      destination: { kind: "source", sourceId },
    });
    expect([nameless.status, nameless.body.errors[0]!.field]).toEqual([422, "destination.folder"]);
    const beside = await restore(console_, {
      items,
      destination: { kind: "source", sourceId, folder: "till-3" },
    });
    expect(beside).toMatchObject({ outcome: "clean", figures: { files: 1 } });
    const made = estate.guests.find(({ name }) => name === "till-3")!;
    const content = async (id: string) => estate.disk(id, "disk-0").read(0, 32 * MIB);
    expect((await content(made.id)).equals(await content(guestId))).toBe(true);
    const again = await restore(console_, {
      items,
      destination: { kind: "source", sourceId, folder: "till-3" },
    });
    expect(again).toMatchObject({ outcome: "failed", code: "restore.exists" });
    const running = await restore(console_, { items, destination: { kind: "original" } });
    expect(running).toMatchObject({ outcome: "failed", code: "restore.in-use" });
    const before = await content(guestId);
    await estate.write(guestId, "disk-0", 3 * MIB, randomBytes(MIB));
    estate.power(guestId, false);
    expect(await restore(console_, { items, destination: { kind: "original" } })).toMatchObject({
      outcome: "clean",
    });
    expect((await content(guestId)).equals(before)).toBe(true);
    const disk = await restore(console_, {
      items: [{ pointId, path: "/disk-0.raw" }],
      destination: { kind: "source", sourceId, folder: "till-4" },
    });
    expect(disk).toMatchObject({ outcome: "failed", code: "restore.cannot-write" });
  });

  it("is downloaded as a raw image, byte for byte", async () => {
    const { url } = await console_.ok<{ url: string }>("POST", "/restores/archives", {
      items: [{ pointId, path: "/disk-0.raw" }],
      format: "tar",
    });
    const answer = await fetch(`${console_.url}${url}`, {
      headers: { authorization: `Bearer ${console_.token}` },
    });
    const folder = freshFolder("disk");
    writeFileSync(join(folder, "a.tar"), Buffer.from(await answer.arrayBuffer()));
    execFileSync("tar", ["--extract", "--file=a.tar"], { cwd: folder });
    const live = await estate.disk(guestId, "disk-0").read(0, 32 * MIB);
    expect(readFileSync(join(folder, "disk-0.raw")).equals(live)).toBe(true);
  });

  it.skipIf(whyNoDiskTools() !== null)(
    "is downloaded as a qcow2 image that QEMU reads, and in parts",
    async () => {
      const items = [{ pointId, path: "/disk-0.raw" }];
      const { url } = await console_.ok<{ url: string }>("POST", "/restores/archives", {
        items,
        format: "qcow2",
      });
      const headers = { authorization: `Bearer ${console_.token}` };
      const answer = await fetch(`${console_.url}${url}`, { headers });
      const whole = Buffer.from(await answer.arrayBuffer());
      expect([answer.status, whole.toString("latin1", 0, 3)]).toEqual([200, "QFI"]);
      const folder = freshFolder("image");
      writeFileSync(join(folder, "disk.qcow2"), whole);
      writeFileSync(join(folder, "disk.raw"), await estate.disk(guestId, "disk-0").read(0, 32 * MIB));
      expect(await run("qemu-img", "check", join(folder, "disk.qcow2"))).toContain("No errors");
      expect(
        await run("qemu-img", "compare", "-F", "raw", join(folder, "disk.qcow2"), join(folder, "disk.raw")),
      ).toContain("identical");
      const part = await fetch(`${console_.url}${url}`, {
        headers: { ...headers, range: "bytes=100000-299999" },
      });
      expect(part.status).toBe(206);
      expect(Buffer.from(await part.arrayBuffer()).equals(whole.subarray(100_000, 300_000))).toBe(true);
      for (const path of ["/", "/guest.json"]) {
        const refused = await console_.call<{ errors: { field: string }[] }>("POST", "/restores/archives", {
          items: [{ pointId, path }],
          format: "qcow2",
        });
        expect([refused.status, refused.body.errors[0]!.field]).toEqual([422, "format"]);
      }
    },
  );

  it("is looked into: folders, text, search, a download, versions; not restored to a machine file by file", async () => {
    const tree = freshFolder("inside");
    mkdirSync(join(tree, "etc"));
    writeFileSync(join(tree, "etc/hosts"), "127.0.0.1 till\n");
    writeFileSync(join(tree, "etc/ledger.csv"), randomBytes(70_000));
    const image = readFileSync(extImage(tree, "ext4", 4096));
    const { id } = estate.add({
      name: "till-5",
      path: ["Bakery", "host-1"],
      memory: MIB,
      processors: 1,
      disks: [{ name: "disk-0", size: 32 * MIB }],
    });
    await estate.write(id, "disk-0", 0, image);
    await console_.ok("POST", `/connections/${connectionId}/discoveries`);
    const source = (await guests()).find(({ name }) => name.startsWith("till-5"))!;
    await console_.ok("PATCH", `/sources/${source.id}`, { policyId: client.policyId });
    const point = (await backUp(console_, source.id)).figures.point!;
    const { guest } = await console_.ok<{ guest: { disks: { partitions: { files: string }[] }[] } }>(
      "GET",
      `/recovery-points/${point}/guest`,
    );
    const root = `/disk-0/${guest.disks[0]!.partitions[0]!.files}`;
    expect(root).toBe("/disk-0/whole-disk");
    const listed = await console_.ok<{ entries: { name: string; size: number }[] }>(
      "GET",
      `/recovery-points/${point}/entries?path=${root}/etc`,
    );
    expect(listed.entries.map(({ name, size }) => [name, size])).toEqual([
      ["hosts", 15],
      ["ledger.csv", 70_000],
    ]);
    const top = await console_.ok<{ entries: { name: string }[] }>(
      "GET",
      `/recovery-points/${point}/entries?path=/`,
    );
    expect(top.entries.map(({ name }) => name)).toEqual(["definition.xml", "disk-0.raw", "guest.json"]);
    const { look } = await console_.ok<{ look: { kind: string; text: string } }>(
      "GET",
      `/recovery-points/${point}/look?path=${root}/etc/hosts`,
    );
    expect(look).toMatchObject({ kind: "text", text: "127.0.0.1 till\n" });
    const found = await console_.ok<{ entries: { path: string }[] }>(
      "GET",
      `/recovery-points/${point}/search?name=ledger&below=${root}`,
    );
    expect(found.entries.map(({ path }) => path)).toEqual([`${root}/etc/ledger.csv`]);
    const items = [{ pointId: point, path: `${root}/etc` }];
    const { url, files, bytes } = await console_.ok<{ url: string; files: number; bytes: number }>(
      "POST",
      "/restores/archives",
      { items, format: "zip" },
    );
    expect([files, bytes]).toEqual([2, 70_015]);
    const answer = await fetch(`${console_.url}${url}`, {
      headers: { authorization: `Bearer ${console_.token}` },
    });
    const folder = freshFolder("inside");
    writeFileSync(join(folder, "a.zip"), Buffer.from(await answer.arrayBuffer()));
    execFileSync("unzip", ["-q", "a.zip"], { cwd: folder });
    expect(
      readFileSync(join(folder, "etc/ledger.csv")).equals(readFileSync(join(tree, "etc/ledger.csv"))),
    ).toBe(true);
    const { versions } = await console_.ok<{ versions: object[] }>(
      "GET",
      `/sources/${source.id}/versions?path=${root}/etc/hosts`,
    );
    expect(versions).toHaveLength(1);
    // as a network folder, with a client that nobody here wrote
    const me = (await console_.ok<{ person: { id: string } }>("GET", "/me")).person.id;
    const { viewing, keys } = await console_.ok<{
      viewing: { url: string };
      keys: { userName: string; password: string }[];
    }>("POST", `/recovery-points/${point}/viewings`, { people: [me], hours: 1, path: `${root}/etc` });
    const dav = createClient(viewing.url, { username: keys[0]!.userName, password: keys[0]!.password });
    expect(((await dav.getDirectoryContents("/")) as FileStat[]).map(({ basename }) => basename)).toEqual([
      "hosts",
      "ledger.csv",
    ]);
    expect(
      Buffer.from((await dav.getFileContents("/ledger.csv")) as Buffer).equals(
        readFileSync(join(tree, "etc/ledger.csv")),
      ),
    ).toBe(true);
    const refused = await console_.call<{ errors: { field: string }[] }>("POST", "/restores", {
      items,
      destination: { kind: "original" },
    });
    expect([refused.status, refused.body.errors[0]!.field]).toEqual([422, "items.0.path"]);
    expect((await console_.call("GET", `/recovery-points/${point}/entries?path=/disk-1/x`)).status).toBe(404);
  });

  it("comes back in a drill as it was stored", async () => {
    const { run } = await console_.ok<{ run: { id: string } }>("POST", `/sources/${sourceId}/drills`);
    expect(await console_.runEnds(run.id)).toMatchObject({ outcome: "clean" });
  });

  it("is a kind that a client's contract counts", async () => {
    const contract = { files: 1, guest: 2 };
    await console_.ok("PUT", `/clients/${client.id}/contract`, contract);
    expect(await console_.ok("GET", `/clients/${client.id}/contract`)).toEqual({ contract });
  });

  it("that was deleted on its host is marked, and its points remain", async () => {
    estate.remove(guestId);
    expect(await backUp(console_, sourceId)).toMatchObject({
      outcome: "failed",
      code: "source.snapshot-failed",
    });
    await console_.ok("POST", `/connections/${connectionId}/discoveries`);
    const { sources: listed } = await console_.ok<{
      sources: { id: string; gone: boolean; points: number }[];
    }>("GET", `/sources?client=${client.id}`);
    expect(listed.find(({ id }) => id === sourceId)).toMatchObject({ gone: true, points: 3 });
  });
});
