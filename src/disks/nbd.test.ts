import { type ChildProcess, execFileSync, spawn } from "node:child_process";
import { randomBytes } from "node:crypto";
import { existsSync, readFileSync, writeFileSync } from "node:fs";
import { connect, createServer } from "node:net";
import { join } from "node:path";
import fc from "fast-check";
import { afterAll, beforeAll, describe, expect, it } from "vitest";
import { freshFolder } from "../../tests/depot";
import { run, whyNoDiskTools } from "../../tests/disk-tools";
import { MemoryDevice } from "../../tests/memory-device";
import { until } from "../../tests/test-console";
import { NbdClient, NbdRefused } from "./client";
import { ALLOCATION, type BlockDevice, bitmapContext, DIRTY, HOLE, rangesOf, ZERO } from "./device";
import { Disconnected } from "./incoming";
import { Overlay } from "./overlay";
import { type Exports, type Listening, type ServerOptions, serveNbd } from "./server";

const MIB = 1024 * 1024;
const missing = whyNoDiskTools();
if (missing) console.warn(`skipped: NBD with programs of others; ${missing}`);

const closing: (() => unknown)[] = [];
afterAll(async () => {
  for (const close of closing.reverse()) await close();
});

/** One device with data in two places, by the name `disk`. */
async function served(device: BlockDevice, options: ServerOptions = {}, closed: () => void = () => {}) {
  const exports: Exports = {
    names: () => ["disk"],
    open: async (name) => (name === "disk" ? { device, close: closed } : null),
  };
  const server = await serveNbd({ host: "127.0.0.1", port: 0 }, exports, options);
  closing.push(() => server.close());
  const at = server.at as { host: string; port: number };
  return { server, at, address: `nbd://127.0.0.1:${at.port}/disk` };
}
const client = async (at: { host: string; port: number }, contexts: string[] = []): Promise<NbdClient> => {
  const opened = await NbdClient.open(at, "disk", contexts);
  closing.push(() => opened.close());
  return opened;
};

async function filled(readOnly = false): Promise<MemoryDevice> {
  const device = new MemoryDevice(64 * MIB, readOnly);
  await device.write(0, randomBytes(3 * MIB));
  await device.write(40 * MIB, randomBytes(5 * MIB + 4096));
  device.begin();
  return device;
}

describe("the NBD server, read by our client", () => {
  it("serves reads, writes, zeros, status and changed ranges like the device itself", async () => {
    const plain = await filled();
    const shadow = Buffer.from(plain.bytes);
    const { at } = await served(plain);
    const disk = await client(at, plain.contexts);
    expect(disk).toMatchObject({ size: 64 * MIB, readOnly: false, contexts: plain.contexts });
    const place = fc.record({ offset: fc.nat(63 * MIB), length: fc.integer({ min: 1, max: MIB }) });
    await fc.assert(
      fc.asyncProperty(
        fc.array(fc.tuple(fc.constantFrom("write", "zero", "read"), place), { minLength: 1, maxLength: 12 }),
        async (steps) => {
          for (const [what, { offset, length }] of steps) {
            if (what === "write") {
              const bytes = randomBytes(length);
              bytes.copy(shadow, offset);
              await disk.write(offset, bytes);
            } else if (what === "zero") {
              shadow.fill(0, offset, offset + length);
              await disk.zero(offset, length);
            } else
              expect((await disk.read(offset, length)).equals(shadow.subarray(offset, offset + length))).toBe(
                true,
              );
          }
        },
      ),
      { numRuns: 20 },
    );
    await disk.flush();
    expect(plain.flushes).toBe(1);
    expect((await disk.read(0, disk.size)).equals(shadow)).toBe(true);
    for (const [context, passes] of [
      [ALLOCATION, (flags: number) => (flags & ZERO) === 0],
      [bitmapContext("written"), (flags: number) => (flags & DIRTY) > 0],
    ] as const)
      expect(await rangesOf(disk, context, 0, disk.size, passes)).toEqual(
        await rangesOf(plain, context, 0, plain.size, passes),
      );
  });

  it("answers many requests at once, each with its own bytes", async () => {
    const plain = await filled();
    const { at } = await served(plain);
    const disk = await client(at);
    await Promise.all(
      Array.from({ length: 200 }, async (_, i) => {
        const offset = (i * 7919 * 512) % (60 * MIB);
        expect(
          (await disk.read(offset, 5000)).equals(plain.bytes.subarray(offset, offset + 5000)),
          `${i}`,
        ).toBe(true);
      }),
    );
  });

  it("refuses what cannot be served, and goes on", async () => {
    const plain = await filled(true);
    const { at } = await served(plain);
    const disk = await client(at);
    await expect(disk.write(0, Buffer.alloc(10))).rejects.toMatchObject({ code: 1 });
    await expect(disk.zero(0, 10)).rejects.toMatchObject({ code: 1 });
    await expect(disk.read(64 * MIB - 5, 10)).rejects.toMatchObject({ code: 22 });
    await expect(disk.status("x:y", 0, 10)).rejects.toThrow(NbdRefused);
    expect((await disk.read(0, 10)).equals(plain.bytes.subarray(0, 10))).toBe(true);
    await expect(NbdClient.open(at, "other")).rejects.toThrow("no export “other”");
  });

  it("passes an error of the device on, with what it said", async () => {
    const heard: unknown[] = [];
    const broken = Object.assign(await filled(), {
      read: async () => {
        throw new Error("the depot does not answer");
      },
    });
    const { at } = await served(broken, { failed: (error) => heard.push(error) });
    const disk = await client(at);
    await expect(disk.read(0, 4096)).rejects.toThrow("the depot does not answer");
    expect(heard).toHaveLength(1);
    // a hole needs no device
    expect((await disk.read(10 * MIB, 4096)).equals(Buffer.alloc(4096))).toBe(true);
  });

  it("releases its device when the client leaves, however it leaves", async () => {
    let open = 0;
    const device = await filled();
    const server = await serveNbd(
      { host: "127.0.0.1", port: 0 },
      {
        names: () => [],
        open: async () => {
          open += 1;
          return {
            device,
            close: () => {
              open -= 1;
            },
          };
        },
      },
    );
    closing.push(() => server.close());
    const at = server.at as { host: string; port: number };
    const polite = await NbdClient.open(at, "a");
    expect(open).toBe(1);
    polite.close();
    await until(async () => open === 0, "the device is still open");
    const rude = connect(at.port, at.host);
    await new Promise((resolve) => rude.once("data", resolve));
    rude.destroy();
    await until(async () => server.connections === 0, "the connection is still counted");
    expect(open).toBe(0);
  });

  it("survives what is no NBD: garbage in the handshake and in requests, lengths that are not true", async () => {
    const { at, server } = await served(await filled());
    const greeting = Buffer.from([0, 0, 0, 3]);
    const option = (number: number, length: number, data: Buffer) =>
      Buffer.concat([
        Buffer.from("IHAVEOPT"),
        Buffer.from([0, 0, 0, number]),
        (() => {
          const b = Buffer.alloc(4);
          b.writeUInt32BE(length);
          return b;
        })(),
        data,
      ]);
    for (const garbage of [
      Buffer.from("GET / HTTP/1.1\r\n\r\n"),
      randomBytes(5000),
      Buffer.concat([greeting, option(6, 0xffffffff, randomBytes(100))]),
      Buffer.concat([greeting, option(7, 6, Buffer.from([255, 255, 255, 255, 0, 0]))]),
      Buffer.concat([greeting, option(10, 12, Buffer.from([0, 0, 0, 0, 255, 255, 255, 255, 0, 0, 0, 9]))]),
      Buffer.concat([greeting, option(1, 4, Buffer.from("disk")), randomBytes(300)]),
    ]) {
      const socket = connect(at.port, at.host);
      socket.on("error", () => {});
      socket.write(garbage);
      socket.end();
      await new Promise((resolve) => socket.resume().once("close", resolve));
    }
    await until(async () => server.connections === 0, "a connection stays");
    const disk = await client(at);
    expect(await disk.read(0, 10)).toHaveLength(10);
  });
});

describe("the NBD client, before servers that break off", () => {
  it("rejects all that is waited for when the connection ends", async () => {
    const { at, server } = await served(
      Object.assign(await filled(), { read: () => new Promise<Buffer>(() => {}) }),
    );
    const disk = await client(at);
    const waiting = [disk.read(0, 10), disk.read(20, 10)].map((one) => expect(one).rejects.toThrow());
    await until(async () => server.connections === 1, "no connection");
    server.close().catch(() => {});
    await Promise.all(waiting);
    await expect(disk.read(0, 10)).rejects.toThrow();
  });

  it("takes nothing that is not of the protocol", async () => {
    for (const hello of [
      "HTTP/1.1 400 Bad Request\r\n\r\n",
      "NBDMAGICIHAVEOPT\0\x01garbage of at least twenty bytes",
    ]) {
      const server = createServer((socket) => socket.end(hello));
      await new Promise<void>((resolve) => server.listen(0, "127.0.0.1", resolve));
      closing.push(() => server.close());
      const { port } = server.address() as { port: number };
      await expect(NbdClient.open({ host: "127.0.0.1", port }, "disk")).rejects.toThrow(Disconnected);
    }
  });
});

describe("an overlay", () => {
  it("reads as if the device below had been written to, and leaves that as it is", async () => {
    const base = await filled(true);
    const before = Buffer.from(base.bytes);
    const shadow = Buffer.from(base.bytes);
    const path = join(freshFolder("overlay"), "writes");
    const overlay = await Overlay.over(base, path);
    closing.push(() => overlay.close());
    expect(existsSync(path), "nothing is left behind by a process that is killed").toBe(false);
    const place = fc.record({ offset: fc.nat(63 * MIB), length: fc.integer({ min: 1, max: 300_000 }) });
    await fc.assert(
      fc.asyncProperty(
        fc.array(fc.tuple(fc.boolean(), place), { minLength: 1, maxLength: 8 }),
        async (steps) => {
          for (const [writes, { offset, length }] of steps) {
            if (writes) {
              const bytes = randomBytes(length);
              bytes.copy(shadow, offset);
              await overlay.write(offset, bytes);
            } else {
              shadow.fill(0, offset, offset + length);
              await overlay.zero(offset, length);
            }
            const from = Math.max(0, offset - 70_000);
            const upTo = Math.min(overlay.size, offset + length + 70_000);
            expect((await overlay.read(from, upTo - from)).equals(shadow.subarray(from, upTo))).toBe(true);
          }
        },
      ),
      { numRuns: 40 },
    );
    expect((await overlay.read(0, overlay.size)).equals(shadow)).toBe(true);
    for (const { offset, length } of await rangesOf(
      overlay,
      ALLOCATION,
      0,
      overlay.size,
      (flags) => (flags & ZERO) > 0,
    ))
      expect(shadow.subarray(offset, offset + length).every((byte) => byte === 0)).toBe(true);
    expect(base.bytes.equals(before)).toBe(true);
  });
});

/** Key and certificate of an authority, and of a server and a client that it vouches for. */
function certificates(): string {
  const folder = freshFolder("certificates");
  const ssl = (...args: string[]) => execFileSync("openssl", args, { cwd: folder, stdio: "ignore" });
  const key = ["-newkey", "ec", "-pkeyopt", "ec_paramgen_curve:prime256v1", "-nodes"];
  ssl(
    "req",
    "-x509",
    ...key,
    "-keyout",
    "ca-key.pem",
    "-out",
    "ca-cert.pem",
    "-subj",
    "/CN=Test authority",
    "-days",
    "2",
  );
  for (const [name, subject] of [
    ["server", "/CN=localhost"],
    ["client", "/CN=console"],
  ] as const) {
    ssl("req", ...key, "-keyout", `${name}-key.pem`, "-out", `${name}.csr`, "-subj", subject);
    writeFileSync(join(folder, `${name}.ext`), "subjectAltName=DNS:localhost,IP:127.0.0.1\n");
    ssl(
      "x509",
      "-req",
      "-in",
      `${name}.csr`,
      "-CA",
      "ca-cert.pem",
      "-CAkey",
      "ca-key.pem",
      "-CAcreateserial",
      "-out",
      `${name}-cert.pem`,
      "-days",
      "2",
      "-extfile",
      `${name}.ext`,
    );
  }
  return folder;
}

describe.skipIf(missing)("NBD with programs that nobody here wrote", () => {
  let device: MemoryDevice;
  let address: string;
  let server: Listening;
  beforeAll(async () => {
    device = await filled();
    ({ address, server } = await served(device));
  });

  it("is described by nbdinfo, with what is allocated", async () => {
    const [{ "export-size": size, is_read_only, contexts }] = JSON.parse(
      await run("nbdinfo", "--json", address),
    ).exports;
    expect({ size, is_read_only }).toEqual({ size: 64 * MIB, is_read_only: false });
    expect(contexts).toEqual([ALLOCATION, ...device.contexts]);
    expect((await run("nbdinfo", "--list", address)).includes('export="disk"')).toBe(true);
    const map: { offset: number; length: number; type: number }[] = JSON.parse(
      await run("nbdinfo", "--json", "--map", address),
    );
    expect(map.map(({ offset, length, type }) => [offset, length, type])).toEqual([
      [0, 3 * MIB, 0],
      [3 * MIB, 37 * MIB, HOLE | ZERO],
      [40 * MIB, 5 * MIB + 4096, 0],
      [45 * MIB + 4096, 19 * MIB - 4096, HOLE | ZERO],
    ]);
  });

  it("is copied by nbdcopy and compared by qemu-img, and nothing is read of holes", async () => {
    const folder = freshFolder("nbd");
    const read = device.readBytes;
    await run("nbdcopy", address, join(folder, "copy.raw"));
    expect(device.readBytes - read).toBeLessThan(9 * MIB);
    expect(readFileSync(join(folder, "copy.raw")).equals(device.bytes)).toBe(true);
    for (const format of ["qcow2", "vmdk", "vhdx", "vdi"]) {
      const file = join(folder, `copy.${format}`);
      await run("qemu-img", "convert", "-f", "raw", "-O", format, address, file);
      expect(await run("qemu-img", "compare", "-f", "raw", "-F", format, address, file)).toContain(
        "identical",
      );
    }
  });

  it("is written to by nbdcopy and qemu-io", async () => {
    const folder = freshFolder("nbd");
    writeFileSync(join(folder, "disk.raw"), Buffer.concat([randomBytes(MIB), Buffer.alloc(63 * MIB)]));
    await run("nbdcopy", join(folder, "disk.raw"), address);
    expect(device.bytes.equals(readFileSync(join(folder, "disk.raw")))).toBe(true);
    await run(
      "qemu-io",
      "-f",
      "raw",
      "-c",
      "write -P 0x5a 1000000 70000",
      "-c",
      "write -z 200000 8192",
      "-c",
      "discard 300000 4096",
      "-c",
      "flush",
      "-c",
      "read -P 0x5a 1000000 70000",
      address,
    );
    expect(device.bytes.subarray(1_000_000, 1_070_000).every((byte) => byte === 0x5a)).toBe(true);
    expect(device.bytes.subarray(200_000, 208_192).every((byte) => byte === 0)).toBe(true);
    expect(device.flushes).toBeGreaterThan(0);
    await until(async () => server.connections === 0, "a connection stays");
  });

  it("reads and writes qemu-nbd with our client, also over TLS with certificates of both", async () => {
    const folder = freshFolder("nbd");
    const pems = certificates();
    const file = join(folder, "disk.qcow2");
    await run("qemu-img", "create", "-f", "qcow2", file, "64M");
    await run("qemu-io", "-c", "write -P 7 4M 2M", file);
    const programs: ChildProcess[] = [];
    closing.push(() =>
      programs.forEach((one) => {
        one.kill();
      }),
    );
    const start = async (path: string, ...args: string[]) => {
      programs.push(spawn("qemu-nbd", ["--persistent", "-x", "disk", ...args, file], { stdio: "ignore" }));
      await until(async () => existsSync(path), "qemu-nbd does not listen");
    };
    const path = join(folder, "socket");
    await start(path, "-k", path, "-f", "qcow2");
    const disk = await NbdClient.open({ path }, "disk");
    const isData = (flags: number) => (flags & ZERO) === 0;
    expect(await rangesOf(disk, ALLOCATION, 0, disk.size, isData)).toEqual([
      { offset: 4 * MIB, length: 2 * MIB },
    ]);
    await disk.write(9 * MIB, Buffer.alloc(MIB, 9));
    await disk.zero(4 * MIB, MIB);
    await disk.flush();
    expect(await rangesOf(disk, ALLOCATION, 0, disk.size, isData)).toEqual([
      { offset: 5 * MIB, length: MIB },
      { offset: 9 * MIB, length: MIB },
    ]);
    disk.close();
    programs.pop()!.kill();
    await until(
      async () =>
        (
          await run("qemu-io", "-r", "-c", "read -P 9 9M 1M", "-c", "read -P 7 5M 1M", file).catch(() => "")
        ).includes("1 MiB"),
      "qemu-nbd does not end",
    );

    const port = await freePortOf();
    programs.push(
      spawn(
        "qemu-nbd",
        [
          "--persistent",
          "-x",
          "disk",
          "-b",
          "127.0.0.1",
          "-p",
          `${port}`,
          "--object",
          `tls-creds-x509,id=tls0,endpoint=server,dir=${pems},verify-peer=on`,
          "--tls-creds",
          "tls0",
          "-f",
          "qcow2",
          file,
        ],
        { stdio: "ignore" },
      ),
    );
    const pem = (name: string) => readFileSync(join(pems, name));
    const tls = { ca: pem("ca-cert.pem"), key: pem("client-key.pem"), cert: pem("client-cert.pem") };
    const at = { host: "127.0.0.1", port };
    await until(
      async () =>
        await NbdClient.open({ ...at, tls }, "disk").then(
          (one) => {
            one.close();
            return true;
          },
          () => false,
        ),
      "no TLS",
    );
    const secure = await NbdClient.open({ ...at, tls }, "disk");
    expect((await secure.read(9 * MIB, MIB)).equals(Buffer.alloc(MIB, 9))).toBe(true);
    secure.close();
    await expect(NbdClient.open(at, "disk")).rejects.toThrow("requires TLS");
    await expect(NbdClient.open({ ...at, tls: { ...tls, ca: undefined } }, "disk")).rejects.toMatchObject({
      code: "UNABLE_TO_VERIFY_LEAF_SIGNATURE",
    });
  });

  it("is read over TLS by qemu-img; without a certificate nothing is said", async () => {
    const pems = certificates();
    const pem = (name: string) => readFileSync(join(pems, name));
    const secured = await served(device, {
      tls: {
        key: pem("server-key.pem"),
        cert: pem("server-cert.pem"),
        ca: pem("ca-cert.pem"),
        requestCert: true,
        rejectUnauthorized: true,
      },
    });
    const image = (object: string) => [
      "info",
      "--object",
      object,
      "--image-opts",
      `driver=nbd,host=localhost,port=${secured.at.port},export=disk,tls-creds=tls0`,
    ];
    const withCertificate = `tls-creds-x509,id=tls0,endpoint=client,dir=${pems}`;
    expect(await run("qemu-img", ...image(withCertificate))).toContain("virtual size: 64 MiB");
    await expect(run("qemu-img", "info", secured.address)).rejects.toThrow(/TLS/);
    const anonymous = freshFolder("anonymous");
    writeFileSync(join(anonymous, "ca-cert.pem"), pem("ca-cert.pem"));
    await expect(
      run("qemu-img", ...image(`tls-creds-x509,id=tls0,endpoint=client,dir=${anonymous}`)),
    ).rejects.toThrow();
  });
});

const freePortOf = (): Promise<number> =>
  new Promise((resolve) => {
    const server = createServer().listen(0, "127.0.0.1", () => {
      const { port } = server.address() as { port: number };
      server.close(() => resolve(port));
    });
  });
