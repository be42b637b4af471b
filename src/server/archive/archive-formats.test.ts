import { execFileSync, spawnSync } from "node:child_process";
import {
  existsSync,
  lstatSync,
  mkdtempSync,
  readdirSync,
  readFileSync,
  readlinkSync,
  writeFileSync,
} from "node:fs";
import { tmpdir } from "node:os";
import { join } from "node:path";
import fc from "fast-check";
import { describe, expect, it } from "vitest";
import type { ByteString, Entry } from "@/store/tree/tree";
import { ArchiveNames, safePart, textPart } from "./names";
import { contentLength, padded, sparseMap, TAR_END, tarHeader } from "./tar-headers";
import { ZipWriter } from "./zip-writer";

const folder = () => mkdtempSync(join(tmpdir(), "deep-keep-archive-"));
const has = (program: string) => spawnSync("sh", ["-c", `command -v ${program}`]).status === 0;
const python = (script: string, ...args: string[]): string =>
  execFileSync("python3", ["-c", script, ...args], { encoding: "utf8", maxBuffer: 1e9 });

interface Made {
  readonly name: ByteString;
  readonly entry: Entry;
  readonly content: Buffer;
}
const entry = (more: Partial<Entry>): Entry => ({
  name: "x",
  type: "file",
  mode: 0o644,
  uid: 1000,
  gid: 1000,
  mtime: 1_700_000_000_000_000_000n,
  ...more,
});
const file = (name: string, content: Buffer, more: Partial<Entry> = {}): Made => ({
  name: Buffer.from(name, "utf8").toString("latin1"),
  content,
  entry: entry({ size: content.length, ...more }),
});

async function zipOf(members: readonly Made[]): Promise<Buffer> {
  const parts: Buffer[] = [];
  const zip = new ZipWriter(async (bytes) => void parts.push(bytes));
  const names = new ArchiveNames(true);
  for (const { name, entry, content } of members) {
    let at = "";
    for (const part of name.split("/")) at = names.name(at, part);
    const bytes = entry.type === "link" ? Buffer.from(entry.target!, "latin1") : content;
    const mtime = new Date(Number(entry.mtime / 1_000_000n));
    await zip.add({ name: at, type: entry.type, mode: entry.mode, mtime, size: bytes.length }, [bytes]);
  }
  await zip.end();
  return Buffer.concat(parts);
}
function tarOf(members: readonly (Made & { readonly sameAs?: string })[]): Buffer {
  const parts: Buffer[] = [];
  for (const { name, entry, content, sameAs } of members) {
    const member = {
      name: Buffer.from(name, "latin1"),
      entry,
      sameAs: sameAs === undefined ? undefined : Buffer.from(sameAs, "latin1"),
    };
    parts.push(tarHeader(member));
    const map = sparseMap(entry);
    const length = contentLength(member);
    const bytes = map
      ? Buffer.concat(map.map(([at, count]) => content.subarray(at, at + count)))
      : content.subarray(0, length);
    parts.push(bytes, Buffer.alloc(padded(length) - length));
  }
  parts.push(Buffer.alloc(TAR_END));
  return Buffer.concat(parts);
}
function saved(bytes: Buffer, name: string): string {
  const path = join(folder(), name);
  writeFileSync(path, bytes);
  return path;
}

const HOSTILE = [
  "..\\..\\evil",
  "C:evil",
  "C:\\evil",
  "Re: rent",
  "a:b",
  "line\nbreak",
  "grün",
  "日本",
  "😀",
  "%5C",
  "a%5Cb",
  "a\\b",
  " leading",
  "trailing ",
  "trailing.",
  "-rf",
  "~root",
  "*",
  "con",
  "quote'\"",
];

describe("names in archives", () => {
  it("are one part of a path everywhere, and never the way up", () => {
    for (const name of HOSTILE) {
      const safe = safePart(name);
      expect(safe).not.toMatch(/[\\/\n]|^\.\.?$|^[A-Za-z]:/);
      expect(safe).not.toBe("");
    }
    expect(safePart("Re: rent")).toBe("Re: rent");
    expect(safePart("..\\..\\evil")).toBe("..%5C..%5Cevil");
    expect(textPart(Buffer.from([0x61, 0xff, 0x62]).toString("latin1"))).toBe("a%FFb");
    expect(textPart(Buffer.from("a\\ÿ", "utf8").toString("latin1"))).toBe("a%5Cÿ");
  });
  it("that become the same are told apart, in each folder for itself, and a folder keeps its one name", () => {
    const names = new ArchiveNames(true);
    expect(names.name("mail", "a\\b.eml")).toBe("mail/a%5Cb.eml");
    expect(names.name("mail", "a%5Cb.eml")).toBe("mail/a%5Cb (2).eml");
    expect(names.name("mail", "a\\b.eml")).toBe("mail/a%5Cb.eml");
    expect(names.name("other", "a%5Cb.eml")).toBe("other/a%5Cb.eml");
  });
  it("are never the same for two names of a folder", () => {
    const part = fc.array(
      fc.constantFrom("a", "\\", "%5C", "%", "\xff", "\xc3", "\xbc", "%FF", "\n", ".", ":"),
      {
        minLength: 1,
        maxLength: 5,
      },
    );
    fc.assert(
      fc.property(
        fc.uniqueArray(
          part.map((one) => one.join("")),
          { maxLength: 12 },
        ),
        fc.boolean(),
        (parts, text) => {
          const names = new ArchiveNames(text);
          const plain = parts.filter((one) => one !== "." && one !== "..");
          const made = plain.map((one) => names.name("", one));
          expect(new Set(made).size).toBe(plain.length);
        },
      ),
      { numRuns: 500 },
    );
  });
});

const tree: readonly Made[] = [
  { name: "top", entry: entry({ type: "folder", mode: 0o750 }), content: Buffer.alloc(0) },
  ...HOSTILE.map((name, i) => file(`top/${name}`, Buffer.from(`content ${i} `.repeat(50 + i)))),
  file("top/empty", Buffer.alloc(0)),
  file("top/old", Buffer.from("old"), { mtime: -1_000_000_000_500_000_000n }),
  file("top/far", Buffer.from("far"), { mtime: 20_000_000_000_000_000_000n }),
  file("top/closed", Buffer.from("closed"), { mode: 0 }),
  file("top/set", Buffer.from("set"), { mode: 0o4755 }),
  file("top/far owner", Buffer.from("owner"), { uid: 4_000_000_000, gid: 3_000_000 }),
  file("top/nobody", Buffer.from("nobody"), { uid: -1, gid: -1 }),
  file(`top/${"long ".repeat(40)}`, Buffer.from("long")),
  {
    name: "top/link",
    entry: entry({ type: "link", target: "../somewhere/gr\xc3\xbcn" }),
    content: Buffer.alloc(0),
  },
  {
    name: "top/far link",
    entry: entry({ type: "link", target: `${"x/".repeat(90)}end` }),
    content: Buffer.alloc(0),
  },
];
const contentOf = (made: Made): string => made.content.toString("latin1");

describe("a ZIP", () => {
  it("is opened by Python's zipfile: names, content, modes, times", async () => {
    const path = saved(await zipOf(tree), "all.zip");
    const told = JSON.parse(
      python(
        `import sys,zipfile,json
z=zipfile.ZipFile(sys.argv[1]); assert z.testzip() is None
print(json.dumps([[i.filename,z.read(i).decode('latin1'),i.external_attr>>16,list(i.date_time),i.flag_bits] for i in z.infolist()]))`,
        path,
      ),
    ) as [string, string, number, number[], number][];
    const names = new ArchiveNames(true);
    names.name("", "top");
    expect(told.map(([name]) => name)).toEqual(
      tree.map((made) => (made.name === "top" ? "top/" : names.name("top", made.name.slice("top/".length)))),
    );
    expect(told.map(([, content]) => content)).toEqual(
      tree.map((made) => (made.entry.type === "link" ? made.entry.target : contentOf(made))),
    );
    expect(told.map(([, , mode]) => mode & 0o7777)).toEqual(tree.map((made) => made.entry.mode));
    expect(told.every(([, , , , flags]) => (flags & 0x800) !== 0)).toBe(true);
    expect(told[1]![3]).toEqual([2023, 11, 14, 22, 13, 20]);
  });

  it.each(["unzip", "bsdtar"])("is unpacked by %s, and nothing escapes or is lost", async (program) => {
    if (!has(program)) {
      if (process.env.CI) throw new Error(`${program} must be there in CI`);
      return;
    }
    const files = tree.filter((made) => made.entry.type === "file" && made.entry.mode !== 0);
    const path = saved(await zipOf(files), "all.zip");
    const outer = folder();
    const to = join(outer, "a/b/c");
    execFileSync("mkdir", ["-p", to]);
    const run =
      program === "unzip"
        ? spawnSync("unzip", ["-q", "-o", path, "-d", to], { env: { ...process.env, LC_ALL: "C.UTF-8" } })
        : spawnSync("bsdtar", ["-xf", path, "-C", to], { env: { ...process.env, LC_ALL: "C.UTF-8" } });
    expect([run.status, run.stderr.toString()]).toEqual([0, ""]);
    expect(readdirSync(outer)).toEqual(["a"]);
    expect(readdirSync(join(outer, "a/b"))).toEqual(["c"]);
    expect(existsSync("/evil")).toBe(false);
    const found = readdirSync(join(to, "top")).map((name) =>
      readFileSync(join(to, "top", name)).toString("latin1"),
    );
    expect(found.sort()).toEqual(files.map(contentOf).sort());
  });

  it("is told to be broken off, and never ends well, when its content cannot be read", async () => {
    const zip = new ZipWriter(async () => {});
    const bad = (async function* () {
      yield Buffer.alloc(100_000, 1);
      throw new Error("the pack is damaged");
    })();
    await expect(
      zip.add({ name: "x", type: "file", mode: 0o644, mtime: new Date(0), size: 200_000 }, bad),
    ).rejects.toThrow("the pack is damaged");
  });

  it("holds files of any content", async () => {
    await fc.assert(
      fc.asyncProperty(
        fc.array(fc.uint8Array({ maxLength: 3000 }), { minLength: 1, maxLength: 6 }),
        async (contents) => {
          const made = contents.map((bytes, i) => file(`f${i}`, Buffer.from(bytes)));
          const path = saved(await zipOf(made), "any.zip");
          const told = JSON.parse(
            python(
              "import sys,zipfile,json\nz=zipfile.ZipFile(sys.argv[1]); assert z.testzip() is None\nprint(json.dumps([z.read(i).decode('latin1') for i in z.infolist()]))",
              path,
            ),
          );
          expect(told).toEqual(made.map(contentOf));
        },
      ),
      { numRuns: 5 },
    );
  });
});

const sparse: Made = (() => {
  const content = Buffer.alloc(5_000_000);
  content.fill(7, 1_000_000, 1_004_096);
  content.fill(9, 4_000_000, 4_000_500);
  return file("top/sparse", content, {
    extents: [
      [1_000_000, 4096],
      [4_000_000, 500],
    ],
  });
})();

describe("a TAR", () => {
  const raw: Made = { ...file("x", Buffer.from("raw")), name: "top/\xff\xfe raw" };
  const longRaw: Made = { ...file("x", Buffer.from("long raw")), name: `top/\xff${"y".repeat(150)}` };
  const all = [...tree, sparse, raw, longRaw];
  const twice = { ...file("top/again", Buffer.alloc(0)), entry: all[3]!.entry, sameAs: all[3]!.name };

  it("is opened by Python's tarfile: names in any bytes, owners, times, modes, links and holes", () => {
    const path = saved(tarOf([...all, twice]), "all.tar");
    const told = JSON.parse(
      python(
        `import sys,tarfile,json
t=tarfile.open(sys.argv[1],errors='surrogateescape')
def content(m):
  f=t.extractfile(m) if m.isreg() else None
  return f.read().decode('latin1') if f else ''
print(json.dumps([[m.name.encode('utf8','surrogateescape').decode('latin1'),content(m),m.mode,m.uid,m.gid,str(m.mtime),m.type.decode(),m.linkname.encode('utf8','surrogateescape').decode('latin1'),m.size] for m in t.getmembers()]))`,
        path,
      ),
    ) as [string, string, number, number, number, string, string, string, number][];
    expect(told.map(([name]) => name)).toEqual([...all, twice].map((made) => made.name));
    expect(told.slice(0, all.length).map(([, content]) => content.length)).toEqual(
      all.map((made) => (made.entry.type === "file" ? made.content.length : 0)),
    );
    for (const [i, made] of all.entries())
      if (made.entry.type === "file") expect(told[i]![1] === contentOf(made), made.name).toBe(true);
    expect(told.map(([, , mode]) => mode)).toEqual([...all, twice].map((made) => made.entry.mode));
    const unsigned = (id: number) => (id < 0 ? 2 ** 32 + id : id);
    expect(told.map(([, , , uid, gid]) => [uid, gid])).toEqual(
      [...all, twice].map(({ entry: { uid, gid } }) => [unsigned(uid), unsigned(gid)]),
    );
    const timeOf = (name: string) => Number(told.find(([one]) => one === name)![5]);
    expect(timeOf("top/old")).toBe(-1_000_000_000.5);
    expect(timeOf("top/far")).toBe(20_000_000_000);
    expect(told.at(-1)!.slice(6, 8)).toEqual(["1", all[3]!.name]);
    expect(told.filter(([, , , , , , type]) => type === "2").map((one) => one[7])).toEqual(
      tree.filter((made) => made.entry.type === "link").map((made) => made.entry.target),
    );
  });

  it.each(["tar", "bsdtar"])("is unpacked by %s: content, holes, links; nothing escapes", (program) => {
    if (!has(program)) {
      if (process.env.CI) throw new Error(`${program} must be there in CI`);
      return;
    }
    const members = [...all, { ...twice, sameAs: safeName(all[3]!.name) }].map((made) => ({
      ...made,
      name: safeName(made.name),
    }));
    const path = saved(tarOf(members), "all.tar");
    const outer = folder();
    const to = join(outer, "in");
    execFileSync("mkdir", [to]);
    const owner = process.getuid?.() === 0 ? ["--no-same-owner"] : [];
    const run = spawnSync(program, ["-xpf", path, "-C", to, ...owner], {
      env: { ...process.env, LC_ALL: "C.UTF-8" },
    });
    // GNU tar warns of times far off, and of a keyword of the standard that it does not know
    const said = run.stderr.toString().split("\n");
    expect(said.filter((line) => line && !/time stamp|hdrcharset/.test(line))).toEqual([]);
    expect(run.status).toBe(0);
    expect(readdirSync(outer)).toEqual(["in"]);
    const bytesOf = (name: string) => Buffer.concat([Buffer.from(`${to}/`), Buffer.from(name, "latin1")]);
    for (const made of members) {
      const at = bytesOf(made.name);
      if (made.entry.type === "link")
        expect(readlinkSync(at)).toBe(Buffer.from(made.entry.target!, "latin1").toString());
      else if (made.entry.type === "file" && made.name !== "top/again") {
        if (made.entry.mode === 0 && process.getuid?.() !== 0) continue;
        expect(readFileSync(at).equals(made.content), made.name).toBe(true);
        expect(lstatSync(at).mode & 0o777, made.name).toBe(made.entry.mode & 0o777);
      }
    }
    expect(lstatSync(bytesOf("top/again")).ino).toBe(lstatSync(bytesOf(members[3]!.name)).ino);
    expect(lstatSync(bytesOf("top/sparse")).blocks * 512).toBeLessThan(1_000_000);
    // of a fraction before 1970 bsdtar makes the next second
    expect(Math.abs(lstatSync(bytesOf("top/old")).mtimeMs + 1_000_000_000_500)).toBeLessThanOrEqual(1000);
  });

  /** The name as an archive of ours has it. */
  const names = new ArchiveNames(false);
  const safeName = (name: ByteString): ByteString =>
    name.split("/").reduce((above, part) => names.name(above, part), "");
});
