import { randomBytes } from "node:crypto";
import {
  existsSync,
  mkdirSync,
  readdirSync,
  readFileSync,
  rmSync,
  statSync,
  utimesSync,
  writeFileSync,
} from "node:fs";
import { request as askServer, createServer, type RequestListener } from "node:http";
import { join } from "node:path";
import { afterAll, afterEach, beforeAll, describe, expect, it } from "vitest";
import type { Code, CodedError } from "@/core/codes";
import { LibraryServer } from "@/standins/library/server";
import { closeServer, listenOnLoopback } from "@/standins/loopback";
import { fileBytes, walkTree } from "@/store/read/browse";
import { byteString } from "@/store/tree/tree";
import { Apache, whyNoApache } from "../../../tests/apache";
import { freshFolder, snap, TestDepot } from "../../../tests/depot";
import type { RestoreWork } from "../network";
import { LibraryClient } from "./client";
import { LIBRARY_ACCESS } from "./connect";
import { LibraryReader } from "./reader";
import { restoreLibrary } from "./restore";
import type { LibrarySettings } from "./settings";
import { libraryWhat } from "./what";

/** A library server, and the folder of this machine that it serves. */
interface Peer {
  readonly address: string;
  readonly files: string;
  /** Lets the server write what a test put there. */
  readonly own: () => void;
  readonly stop: () => Promise<void>;
}
const USER = "ursel";
const SECRET = "pässword: with a colon";
const basic = `Basic ${Buffer.from(`${USER}:${SECRET}`).toString("base64")}`;
const PATIENCE = { attempts: 3, firstPauseMs: 1, silenceMs: 5000 };
const clientOf = (address: string): LibraryClient =>
  new LibraryClient({ address, signIn: async () => basic }, PATIENCE);
const LABEL = "2026-11-26 20.45";

const NAMES = [
  "plain.txt",
  "two words",
  "100 % & <more>",
  "#1?",
  "Überblick; ältere.odt",
  "日本 🏺",
  "semi;colon=1,2",
  "+'(a)!.txt",
];

async function store(
  client: LibraryClient,
  depot: TestDepot,
  previous: Awaited<ReturnType<typeof snap>> | null = null,
  exclude: string[] = [],
) {
  const fetched: string[] = [];
  const open = client.open.bind(client);
  client.open = (path) => {
    fetched.push(path);
    return open(path);
  };
  const reader = new LibraryReader(client, "/Catalogue", libraryWhat.parse({ exclude }));
  const made = await snap(depot, "", { reader, previous: previous?.previous ?? null });
  const paths: string[] = [];
  for await (const { path } of walkTree(depot.reader(), made.root, "/")) paths.push(path);
  return { ...made, paths, fetched };
}

async function restore(
  client: LibraryClient,
  depot: TestDepot,
  root: Uint8Array,
  {
    path = "/",
    folder = null,
    clash = "keep-both",
  }: Partial<Pick<RestoreWork, "folder" | "clash">> & { path?: string } = {},
) {
  const lines: { code: Code | null; path: string | null; message: string }[] = [];
  const result = await restoreLibrary(client, "/Catalogue", {
    items: [{ store: depot.reader(), root, path: byteString(path), momentLabel: LABEL }],
    folder,
    clash,
    expect: () => {},
    log: (_level, code, at, message) => void lines.push({ code, path: at, message }),
    progress: { items: 0, bytes: 0 },
    signal: new AbortController().signal,
  });
  return { ...result, lines };
}

/** Files below a folder of this machine, with their content. */
function filesIn(folder: string): Map<string, Buffer> {
  const found = new Map<string, Buffer>();
  for (const path of readdirSync(folder, { recursive: true, encoding: "utf8" }).sort())
    if (!path.includes(".DAV") && statSync(join(folder, path)).isFile())
      found.set(path, readFileSync(join(folder, path)));
  return found;
}
const sameFiles = (a: ReadonlyMap<string, Buffer>, b: ReadonlyMap<string, Buffer>): void => {
  expect([...a.keys()]).toEqual([...b.keys()]);
  for (const [path, bytes] of a) expect(bytes.equals(b.get(path)!), path).toBe(true);
};

const peers: [string, string | null, () => Promise<Peer>][] = [
  [
    "Apache with mod_dav",
    whyNoApache(),
    async () => {
      const server = await Apache.start(USER, SECRET);
      return {
        address: server.address(),
        files: server.files,
        own: () => server.own(),
        stop: () => server.stop(),
      };
    },
  ],
  [
    "the stand-in",
    null,
    async () => {
      const folder = freshFolder("library");
      mkdirSync(join(folder, "files"));
      writeFileSync(
        join(folder, "accounts.json"),
        JSON.stringify({ people: [{ name: USER, password: SECRET }], clients: [] }),
      );
      const server = new LibraryServer({ folder });
      return {
        address: `${await server.listen(0)}/dav/`,
        files: join(folder, "files"),
        own: () => {},
        stop: () => server.close(),
      };
    },
  ],
];

for (const [name, missing, start] of peers) {
  if (missing) console.warn(`skipped: libraries of ${name}; ${missing}`);
  describe.skipIf(missing)(`a library of ${name}`, () => {
    let peer: Peer;
    let base: string;
    let depot: TestDepot;
    const connection = (settings: Partial<LibrarySettings> = {}, secret = SECRET) => ({
      address: peer.address,
      secret,
      settings: {
        auth: "password" as const,
        user: USER,
        teams: "",
        people: "",
        region: "north harbour",
        ...settings,
      },
    });
    const put = (path: string, content: Buffer | string, at = 1_750_000_000) => {
      const file = join(base, path);
      mkdirSync(join(file, ".."), { recursive: true });
      writeFileSync(file, content);
      utimesSync(file, at, at);
      peer.own();
    };

    beforeAll(async () => {
      peer = await start();
      base = join(peer.files, "Catalogue");
      depot = new TestDepot();
    }, 30_000);
    afterAll(() => peer?.stop());
    afterEach(() => rmSync(base, { recursive: true, force: true }));

    it("is stored with names of any characters, byte for byte, and what did not change is not fetched again", async () => {
      for (const name of NAMES) put(`${name}/${name}`, `content of ${name}`);
      put("empty", "");
      put("scan.raw", randomBytes(5_000_000));
      mkdirSync(join(base, "empty folder"));
      const first = await store(clientOf(peer.address), depot);
      expect(first.notes).toEqual([]);
      const stored = new Map<string, Buffer>();
      for await (const { path, entry } of walkTree(depot.reader(), first.root, "/"))
        if (entry.type === "file") {
          const parts: Buffer[] = [];
          for await (const part of fileBytes(depot.reader(), entry)) parts.push(part);
          stored.set(Buffer.from(path.slice(1), "latin1").toString("utf8"), Buffer.concat(parts));
          expect(entry.mtime).toBe(1_750_000_000_000_000_000n);
        }
      sameFiles(
        new Map([...stored].sort(([a], [b]) => (a < b ? -1 : 1))),
        new Map([...filesIn(base)].sort(([a], [b]) => (a < b ? -1 : 1))),
      );
      expect(first.paths).toContain("/empty folder");
      const again = await store(clientOf(peer.address), depot, first);
      expect(again.fetched).toEqual([]);
      expect(Buffer.from(again.root).equals(Buffer.from(first.root))).toBe(true);
      put("plain.txt/plain.txt", "changed", 1_750_000_100);
      rmSync(join(base, "#1?"), { recursive: true });
      const third = await store(clientOf(peer.address), depot, again);
      expect(third.fetched).toEqual(["/Catalogue/plain.txt/plain.txt"]);
      expect(third.paths.some((path) => path.startsWith("/#1?"))).toBe(false);
    }, 60_000);

    it("without what is excluded", async () => {
      put("kept.txt", "kept");
      put("draft.tmp", "left out");
      put("Drafts/one.txt", "left out");
      const { paths, fetched } = await store(clientOf(peer.address), depot, null, ["*.tmp", "/Drafts"]);
      expect(paths).toEqual(["/kept.txt"]);
      expect(fetched).toEqual(["/Catalogue/kept.txt"]);
    });

    it("is restored whole where it was emptied, and once more without a change", async () => {
      for (const name of NAMES) put(`${name}/${name}`, `content of ${name}`);
      put("scan.raw", randomBytes(3_000_000));
      put("empty", "");
      mkdirSync(join(base, "empty folder"));
      const point = await store(clientOf(peer.address), depot);
      const before = filesIn(base);
      rmSync(base, { recursive: true });
      mkdirSync(base);
      peer.own();
      const result = await restore(clientOf(peer.address), depot, point.root);
      expect(result).toMatchObject({
        files: before.size,
        present: 0,
        cautions: 0,
        folders: NAMES.length + 1,
      });
      sameFiles(filesIn(base), before);
      expect(existsSync(join(base, "empty folder"))).toBe(true);
      const again = await restore(clientOf(peer.address), depot, point.root);
      expect(again).toMatchObject({ files: 0, present: before.size, cautions: 0, folders: 0 });
      sameFiles(filesIn(base), before);
    }, 60_000);

    it("keeps, replaces or skips a file that was overwritten, as it is asked", async () => {
      put("List.csv", "the list of the museum");
      const point = await store(clientOf(peer.address), depot);
      put("List.csv", "overwritten", 1_750_000_200);
      const both = await restore(clientOf(peer.address), depot, point.root, { path: "/List.csv" });
      expect(both).toMatchObject({ files: 1, keptBoth: 1, replaced: 0 });
      expect(Object.fromEntries([...filesIn(base)].map(([path, bytes]) => [path, bytes.toString()]))).toEqual(
        {
          "List.csv": "overwritten",
          [`List (${LABEL}).csv`]: "the list of the museum",
        },
      );
      // repeated, it finds what it restored
      expect(await restore(clientOf(peer.address), depot, point.root, { path: "/List.csv" })).toMatchObject({
        files: 0,
        present: 1,
      });
      const skipped = await restore(clientOf(peer.address), depot, point.root, {
        path: "/List.csv",
        clash: "skip",
      });
      expect(skipped).toMatchObject({ files: 0, present: 1 });
      expect(readFileSync(join(base, "List.csv"), "utf8")).toBe("overwritten");
      const replaced = await restore(clientOf(peer.address), depot, point.root, {
        path: "/List.csv",
        clash: "replace",
      });
      expect(replaced).toMatchObject({ files: 1, replaced: 1 });
      expect(readFileSync(join(base, "List.csv"), "utf8")).toBe("the list of the museum");
    });

    it("is restored into a folder that is not there yet", async () => {
      put("Rooms/North/1.txt", "north");
      const point = await store(clientOf(peer.address), depot);
      const result = await restore(clientOf(peer.address), depot, point.root, {
        path: "/Rooms/North",
        folder: "Restored/Ünder",
      });
      expect(result).toMatchObject({ files: 1, folders: 3 });
      expect(readFileSync(join(base, "Restored/Ünder/North/1.txt"), "utf8")).toBe("north");
    });

    it("says of a file in the place of a folder that it is in the way, and restores the others", async () => {
      put("a/one.txt", "one");
      put("b.txt", "two");
      const point = await store(clientOf(peer.address), depot);
      rmSync(base, { recursive: true });
      put("a", "a file now");
      const result = await restore(clientOf(peer.address), depot, point.root);
      expect(result).toMatchObject({ files: 1, cautions: 2 });
      expect(readFileSync(join(base, "a"), "utf8")).toBe("a file now");
      expect(readFileSync(join(base, "b.txt"), "utf8")).toBe("two");
    });

    it("is found by its connection: teams and people apart, with ids that stay", async () => {
      for (const folder of ["teams/Catalogue", "teams/Exhibitions ä", "people/Ursel"])
        mkdirSync(join(peer.files, folder), { recursive: true });
      writeFileSync(join(peer.files, "teams/no library.txt"), "");
      peer.own();
      const test = await LIBRARY_ACCESS.test(connection({ teams: "teams", people: "people" }));
      expect(test.steps.map(({ step, ok }) => [step, ok])).toEqual([
        ["Find the server", true],
        ["List the libraries", true],
      ]);
      expect(test.found).toEqual([
        { id: "/teams/Catalogue", name: "Catalogue (team)" },
        { id: "/teams/Exhibitions ä", name: "Exhibitions ä (team)" },
        { id: "/people/Ursel", name: "Ursel (personal)" },
      ]);
      expect((await LIBRARY_ACCESS.test(connection())).found).toMatchObject([{ id: "/" }]);
      expect(await LIBRARY_ACCESS.test(connection({ teams: "Teams" }))).toMatchObject({
        ok: false,
        code: "folder.missing",
      });
      expect(await LIBRARY_ACCESS.test(connection({}, "wrong"))).toMatchObject({
        ok: false,
        code: "source.signin-refused",
      });
      await expect(
        LIBRARY_ACCESS.open(connection(), "/teams/gone", libraryWhat.parse({}), {
          sourceId: "",
          previous: null,
        }),
      ).rejects.toThrow("no longer has the library");
      for (const folder of ["teams", "people"]) rmSync(join(peer.files, folder), { recursive: true });
    });

    it("notes a file that vanishes between listing and reading, and stores the others", async () => {
      put("a.txt", "a");
      put("b.txt", "b");
      const client = clientOf(peer.address);
      const open = client.open.bind(client);
      client.open = (path) => {
        rmSync(join(base, "b.txt"), { force: true });
        return open(path);
      };
      const reader = new LibraryReader(client, "/Catalogue", libraryWhat.parse({}));
      const { notes } = await snap(depot, "", { reader });
      expect(notes).toEqual([{ code: "file.vanished", path: "/b.txt" }]);
    });
  });
}

/** A server that answers as a test says. */
async function serving(listener: RequestListener, use: (address: string) => Promise<void>): Promise<void> {
  const server = createServer(listener);
  const address = await listenOnLoopback(server, 0);
  try {
    await use(`${address}/dav/`);
  } finally {
    await closeServer(server);
  }
}
const listed = (
  hrefs: readonly string[],
  props = '<d:getetag>"1"</d:getetag><d:getcontentlength>3</d:getcontentlength>',
) =>
  `<?xml version="1.0"?><d:multistatus xmlns:d="DAV:">${hrefs
    .map(
      (href) =>
        `<d:response><d:href>${href}</d:href><d:propstat><d:prop><d:resourcetype>${href.endsWith("/") ? "<d:collection/>" : ""}</d:resourcetype>${href.endsWith("/") ? "" : props}</d:prop><d:status>HTTP/1.1 200 OK</d:status></d:propstat></d:response>`,
    )
    .join("")}</d:multistatus>`;

describe("a library server that misbehaves", () => {
  it("names nothing outside of the folder that was asked for, and nothing that no file can be called", async () => {
    const hostile = [
      "/dav/",
      "/dav/good.txt",
      "/etc/passwd",
      "/dav/%2e%2e/up",
      "/dav/..%2Fetc",
      "/dav/deep/er",
      "/dav/nul%00l",
      "/dav/good.txt",
      `/dav/${"x".repeat(300)}`,
      "https://elsewhere.example/dav/other",
    ];
    await serving(
      (_request, response) =>
        response.writeHead(207, { "content-type": "application/xml" }).end(listed(hostile)),
      async (address) => {
        const problems: string[] = [];
        const items = await clientOf(address).list("/", (name) => problems.push(name));
        expect(items.map(({ name }) => name)).toEqual(["good.txt", "other"]);
        expect(problems.length).toBe(6);
      },
    );
  });

  it("lets a download break off again and again: it is continued where it stopped", async () => {
    const content = randomBytes(3_000_000);
    let asked = 0;
    await serving(
      (request, response) => {
        if (request.method === "PROPFIND") {
          response
            .writeHead(207, { "content-type": "application/xml" })
            .end(listed(["/dav/", "/dav/big.raw"]));
          return;
        }
        asked += 1;
        const from = Number(/bytes=(\d+)-/.exec(request.headers.range ?? "")?.[1] ?? 0);
        if (from > 0) expect(request.headers["if-range"]).toBe('"1"');
        response.writeHead(from > 0 ? 206 : 200, {
          etag: '"1"',
          "content-length": String(content.length - from),
          ...(from > 0 ? { "content-range": `bytes ${from}-${content.length - 1}/${content.length}` } : {}),
        });
        const to = Math.min(content.length, from + 1_000_000);
        response.write(content.subarray(from, to), () =>
          to < content.length ? response.destroy() : response.end(),
        );
      },
      async (address) => {
        const depot = new TestDepot();
        const reader = new LibraryReader(clientOf(address), "", libraryWhat.parse({}));
        const { notes, root } = await snap(depot, "", { reader });
        expect(notes).toEqual([]);
        for await (const { entry } of walkTree(depot.reader(), root, "/")) {
          const parts: Buffer[] = [];
          for await (const part of fileBytes(depot.reader(), entry)) parts.push(part);
          expect(Buffer.concat(parts).equals(content)).toBe(true);
        }
        expect(asked).toBe(3);
      },
    );
  }, 30_000);

  it("changes a file whose download broke off: it is not joined from two versions", async () => {
    await serving(
      (request, response) => {
        if (request.method === "PROPFIND") {
          response
            .writeHead(207, { "content-type": "application/xml" })
            .end(listed(["/dav/", "/dav/a", "/dav/b"]));
          return;
        }
        if (request.url === "/dav/a" && !request.headers.range) {
          response.writeHead(200, { etag: '"1"', "content-length": "10" });
          response.write("12345", () => response.destroy());
        } else response.writeHead(200, { etag: '"2"', "content-length": "3" }).end("new");
      },
      async (address) => {
        const depot = new TestDepot();
        const reader = new LibraryReader(clientOf(address), "", libraryWhat.parse({}));
        const { notes, root } = await snap(depot, "", { reader });
        expect(notes).toEqual([{ code: "file.unreadable", path: "/a" }]);
        const paths = [];
        for await (const { path } of walkTree(depot.reader(), root, "/")) paths.push(path);
        expect(paths).toEqual(["/b"]);
      },
    );
  });

  it("asks to wait, and is asked again after that time", async () => {
    let requests = 0;
    await serving(
      (_request, response) => {
        requests += 1;
        if (requests === 1) response.writeHead(429, { "retry-after": "0" }).end();
        else response.writeHead(207, { "content-type": "application/xml" }).end(listed(["/dav/"]));
      },
      async (address) => {
        expect(await clientOf(address).list("/")).toEqual([]);
        expect(requests).toBe(2);
      },
    );
  });

  it("no longer takes the token: a new one is used, and where that is refused too the run ends", async () => {
    let valid = "second";
    await serving(
      (request, response) =>
        request.headers.authorization === valid
          ? response.writeHead(207, { "content-type": "application/xml" }).end(listed(["/dav/"]))
          : response.writeHead(401).end(),
      async (address) => {
        const asked: boolean[] = [];
        const client = new LibraryClient(
          {
            address,
            signIn: async (renew) => {
              asked.push(renew);
              return renew ? "second" : "first";
            },
          },
          PATIENCE,
        );
        expect(await client.list("/")).toEqual([]);
        expect(asked).toEqual([false, true]);
        valid = "none";
        expect(await client.list("/").catch((error: CodedError) => error.code)).toBe("source.signin-refused");
      },
    );
  });

  it("takes no file without its length: it is sent with each", async () => {
    const sent: (string | undefined)[] = [];
    await serving(
      (request, response) => {
        sent.push(request.headers["content-length"], request.headers["transfer-encoding"]);
        request.resume();
        request.once("end", () => response.writeHead(201).end());
      },
      async (address) => {
        const content = async function* () {
          yield Buffer.alloc(70_000, 1);
          yield Buffer.alloc(30_000, 2);
        };
        expect(await clientOf(address).put("/a", 100_000, content, { nothing: true })).toBe("stored");
        expect(await clientOf(address).put("/b", 0, content, { nothing: true })).toBe("stored");
      },
    );
    expect(sent).toEqual(["100000", undefined, "0", undefined]);
  });

  for (const lost of ["the request", "the answer"] as const)
    it(`loses ${lost} of any call of a restore: repeated, it restores all, and nothing twice`, async () => {
      const folder = freshFolder("library");
      const base = join(folder, "files/Catalogue");
      mkdirSync(join(base, "a/b"), { recursive: true });
      writeFileSync(
        join(folder, "accounts.json"),
        JSON.stringify({ people: [{ name: USER, password: SECRET }], clients: [] }),
      );
      writeFileSync(join(base, "a/b/one.txt"), "one");
      writeFileSync(join(base, "a/two.txt"), "two");
      writeFileSync(join(base, "three.txt"), "three");
      const server = new LibraryServer({ folder });
      const origin = await server.listen(0);
      const depot = new TestDepot();
      const point = await store(clientOf(`${origin}/dav/`), depot);
      const before = filesIn(base);
      let calls = 0;
      let failing = 0;
      const listener: RequestListener = (request, response) => {
        calls += 1;
        const fails = calls === failing;
        if (fails && lost === "the request") {
          request.socket.destroy();
          return;
        }
        const onward = askServer(
          `${origin}${request.url}`,
          { method: request.method!, headers: request.headers },
          (answer) => {
            if (fails) {
              answer.resume();
              request.socket.destroy();
              return;
            }
            response.writeHead(answer.statusCode!, answer.headers);
            answer.pipe(response);
          },
        );
        request.pipe(onward);
      };
      await serving(listener, async (address) => {
        const client = () =>
          new LibraryClient({ address, signIn: async () => basic }, { ...PATIENCE, attempts: 1 });
        let broken = 0;
        for (failing = 1; failing < 100; failing += 1) {
          rmSync(base, { recursive: true });
          mkdirSync(base);
          calls = 0;
          const first = await restore(client(), depot, point.root).then(
            () => true,
            (error: CodedError) => {
              expect(error.code).toBe("source.not-reached");
              return false;
            },
          );
          if (first) break;
          broken += 1;
          calls = 1000;
          const again = await restore(client(), depot, point.root);
          expect(again.cautions).toBe(0);
          expect(again.files + again.present).toBe(3);
          sameFiles(filesIn(base), before);
        }
        // folders and files are each looked at and written
        expect(broken).toBeGreaterThan(8);
        expect(failing).toBeLessThan(100);
      });
      await server.close();
    }, 60_000);

  it("leads elsewhere: the sign-in is not sent there", async () => {
    await serving(
      (_request, response) => response.writeHead(302, { location: "http://localhost:1/dav/" }).end(),
      async (address) => {
        const problem = await clientOf(address)
          .list("/")
          .catch((error: CodedError) => error.code);
        expect(problem).toBe("source.other-host");
      },
    );
  });

  it("declares entities that expand without end: the answer is not read", async () => {
    const bomb = `<?xml version="1.0"?><!DOCTYPE a [<!ENTITY a "${"x".repeat(1000)}">${[..."bcdefgh"]
      .map((name, i) => `<!ENTITY ${name} "${`&${"abcdefg"[i]};`.repeat(10)}">`)
      .join("")}]>`;
    await serving(
      (_request, response) =>
        response
          .writeHead(207, { "content-type": "application/xml" })
          .end(listed(["/dav/", "/dav/&h;"]).replace('<?xml version="1.0"?>', bomb)),
      async (address) => {
        const problem = await clientOf(address)
          .list("/")
          .catch((error: CodedError) => error.code);
        expect(problem).toBe("source.unreadable");
      },
    );
  });

  it("is no WebDAV server: it says so", async () => {
    await serving(
      (_request, response) => response.writeHead(200, { "content-type": "text/html" }).end("<p>welcome"),
      async (address) => {
        const problem = await clientOf(address)
          .list("/")
          .catch((error: CodedError) => error.code);
        expect(problem).toBe("source.unreadable");
      },
    );
  });
});
