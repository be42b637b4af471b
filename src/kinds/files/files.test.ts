import { execFileSync } from "node:child_process";
import { randomBytes } from "node:crypto";
import {
  appendFileSync,
  chmodSync,
  closeSync,
  existsSync,
  ftruncateSync,
  linkSync,
  lstatSync,
  mkdirSync,
  mkdtempSync,
  openSync,
  readdirSync,
  readFileSync,
  readSync,
  renameSync,
  rmSync,
  statSync,
  symlinkSync,
  truncateSync,
  unlinkSync,
  writeFileSync,
  writeSync,
} from "node:fs";
import { basename, join } from "node:path";
import { describe, expect, it } from "vitest";
import { setMtime, writeXattr } from "@/sources/machine/libc";
import { folderEntries, walkTree } from "@/store/read/browse";
import { Identifier } from "@/store/seal/identity";
import { bring, freshFolder, snap, TestDepot } from "../../../tests/depot";
import { describeTree } from "../../../tests/same-tree";
import { compareWithDisk } from "./compare";

const bytes = (text: string) => Buffer.from(text, "latin1");

/** Leaves a file as a program does that dies before it sets the rights, which come last. */
function putWithoutRights(from: string, to: string, path: string): void {
  writeFileSync(join(to, path), readFileSync(join(from, path)), { mode: 0o200 });
  setMtime(bytes(join(to, path)), statSync(join(from, path), { bigint: true }).mtimeNs);
}

/** Files as they are in the world. */
function awkwardTree(): string {
  const root = freshFolder("awkward");
  mkdirSync(join(root, "plain/empty"), { recursive: true });
  writeFileSync(join(root, "plain/letter.txt"), "Dear Marrow,\n");
  writeFileSync(join(root, "plain/nothing"), "");
  writeFileSync(Buffer.concat([bytes(`${root}/plain/`), Buffer.from([0x66, 0xff, 0xfe, 0x80])]), "not UTF-8");
  writeFileSync(join(root, "plain/two\nlines"), "newline");
  writeFileSync(join(root, "plain/größer ☂.txt"), "umlaut");
  const deep = join(
    root,
    ...Array.from({ length: 12 }, (_, i) => `${String(i).padStart(2, "0")}${"x".repeat(24)}`),
  );
  mkdirSync(deep, { recursive: true });
  writeFileSync(join(deep, "far down"), "deep");
  linkSync(join(root, "plain/letter.txt"), join(root, "plain/same letter.txt"));
  symlinkSync("letter.txt", join(root, "plain/link"));
  symlinkSync("/nowhere/at all", join(root, "plain/dangling"));
  linkSync(join(root, "plain/dangling"), join(root, "plain/same dangling"));
  // somebody's own folder that is called as ours at the top of a volume
  mkdirSync(join(root, "plain/.deep-keep-snapshots"));
  writeFileSync(join(root, "plain/.deep-keep-snapshots/kept"), "kept");
  symlinkSync(Buffer.from([0x2f, 0xff]), join(root, "plain/odd target"));
  execFileSync("mkfifo", [join(root, "plain/pipe")]);
  writeFileSync(join(root, "big.bin"), randomBytes(9 * 1024 * 1024));
  const sparse = openSync(join(root, "sparse.img"), "w");
  ftruncateSync(sparse, 64 * 1024 * 1024);
  writeSync(sparse, randomBytes(4096), 0, 4096, 20 * 1024 * 1024);
  chmodSync(join(root, "plain/letter.txt"), 0o640);
  chmodSync(join(root, "plain/nothing"), 0o4711);
  chmodSync(join(root, "plain/empty"), 0o1777);
  try {
    writeXattr(bytes(`${root}/plain/letter.txt`), "user.origin", Buffer.from("clinic"));
  } catch {
    // a file system without extended attributes: the rest still counts
  }
  setMtime(bytes(`${root}/plain/link`), 1_500_000_000_123_456_789n);
  setMtime(bytes(`${root}/plain/letter.txt`), 1_600_000_000_987_654_321n);
  setMtime(bytes(`${root}/plain`), -1_000_000_001n);
  return root;
}

describe("keeping and bringing back", () => {
  it("restores bit for bit, metadata included", async () => {
    const root = awkwardTree();
    const depot = new TestDepot();
    const first = await snap(depot, root);
    expect(first.notes).toEqual([{ code: "file.special", path: "/plain/pipe" }]);
    const target = freshFolder("target");
    const { notes, figures } = await bring(depot, first.root, target);
    expect(notes).toEqual([]);
    expect(describeTree(target)).toEqual(describeTree(root));
    expect(figures.files).toBe(first.counts.files);
    expect(statSync(join(target, "sparse.img")).blocks * 512).toBeLessThan(1024 * 1024);
  });

  it("keeps both of what a basket holds twice, also while the first is on its way", async () => {
    const root = freshFolder("twice");
    mkdirSync(join(root, "desk/drawer"), { recursive: true });
    for (const name of ["desk/a.txt", "desk/b.txt", "desk/drawer/c.txt"])
      writeFileSync(join(root, name), name);
    const depot = new TestDepot();
    const first = await snap(depot, root);
    for (const clash of ["keep-both", "skip", "replace"] as const) {
      const target = freshFolder("back");
      const { figures, notes } = await bring(depot, first.root, target, {
        paths: ["/desk", "/desk"],
        folder: "/back",
        clash,
      });
      expect(notes).toEqual([]);
      const names = readdirSync(join(target, "back/desk"), { recursive: true }).map(String).sort();
      const once = ["a.txt", "b.txt", "drawer", "drawer/c.txt"];
      const again = ["a", "b", "drawer/c"].map((name) => `${name} (2026-11-17 18.05).txt`);
      expect(names).toEqual(clash === "keep-both" ? [...once, ...again].sort() : once);
      const { keptBoth, skipped, replaced } = figures;
      expect([keptBoth, skipped, replaced]).toEqual(
        { "keep-both": [3, 0, 0], skip: [0, 3, 0], replace: [0, 0, 3] }[clash],
      );
    }
  });

  it("tells how far it is within a large file, and in the end just what there was", async () => {
    const root = awkwardTree();
    writeFileSync(join(root, "larger.bin"), randomBytes(60 * 1024 * 1024));
    const depot = new TestDepot();
    const progress = { items: 0, bytes: 0 };
    const within: number[] = [];
    const put = depot.putPack.bind(depot);
    depot.putPack = async (...pack: Parameters<typeof put>) => {
      within.push(progress.bytes);
      return put(...pack);
    };
    const first = await snap(depot, root, { progress });
    // packs leave while that file is read
    expect(new Set(within).size).toBeGreaterThan(1);
    expect(progress.bytes).toBe(first.counts.bytes);
    const again: { items: number; bytes: number; unread?: number } = { items: 0, bytes: 0 };
    await snap(depot, root, { progress: again, previous: first.previous });
    expect(again).toMatchObject({ bytes: first.counts.bytes, unread: first.counts.bytes });
    expect(progress).not.toHaveProperty("unread");
  });

  it("tells each way in which what lies there is not what was kept", async () => {
    const depot = new TestDepot();
    const { root } = await snap(depot, awkwardTree());
    const target = freshFolder("compared");
    await bring(depot, root, target);
    const compare = async () => {
      const differing = new Map<string, string>();
      let same = 0;
      const { files } = await compareWithDisk(walkTree(depot.reader(), root, "/"), {
        store: depot.reader(),
        chunkIds: new Identifier(depot.keys.chunkId),
        folder: target,
        owners: true,
        differs: (path, how) => differing.set(path, how),
        same: () => {
          same += 1;
        },
        signal: new AbortController().signal,
      });
      expect(same).toBe(files);
      return differing;
    };
    expect([...(await compare())]).toEqual([]);
    const at = (path: string) => join(target, path);
    const timed = (path: string, change: () => void) => {
      const { mtimeNs } = lstatSync(at(path), { bigint: true });
      change();
      setMtime(bytes(at(path)), mtimeNs);
    };
    // a bit in the middle of much, with its size and its time as they were
    timed("big.bin", () => {
      const file = openSync(at("big.bin"), "r+");
      const one = Buffer.alloc(1);
      readSync(file, one, 0, 1, 5_000_000);
      one[0]! ^= 1;
      writeSync(file, one, 0, 1, 5_000_000);
      closeSync(file);
    });
    timed("plain", () => {
      timed("plain/letter.txt", () => chmodSync(at("plain/letter.txt"), 0o644));
      unlinkSync(at("plain/größer ☂.txt"));
      unlinkSync(at("plain/link"));
      symlinkSync("elsewhere.txt", at("plain/link"));
      unlinkSync(at("plain/dangling"));
      mkdirSync(at("plain/dangling"));
      setMtime(bytes(at("plain/two\nlines")), 1n);
      appendFileSync(at("plain/nothing"), "something");
    });
    const found = await compare();
    expect(Object.fromEntries(found)).toMatchObject({
      "/big.bin": "its content is another one",
      "/plain/letter.txt": "its rights are 644 and were 640",
      "/plain/größer ☂.txt": "it is not there",
      "/plain/link": "it points elsewhere",
      "/plain/dangling": "it is a folder and was a link",
      "/plain/two\nlines": "its time of change is another one",
      "/plain/nothing": "it has 9 bytes and had 0",
    });
    // the second name of the letter is the same file
    expect([...found.keys()].filter((path) => !path.includes("same letter"))).toHaveLength(7);
  });

  it("stores the data of a file with holes, not the holes", async () => {
    const root = freshFolder("holes");
    const file = openSync(join(root, "disk.img"), "w");
    ftruncateSync(file, 5 * 1024 ** 3);
    writeSync(file, randomBytes(1024 * 1024), 0, 1024 * 1024, 3 * 1024 ** 3);
    const depot = new TestDepot();
    const { stored, counts } = await snap(depot, root);
    expect(counts.bytes).toBe(5 * 1024 ** 3);
    expect(stored.storedBytes).toBeLessThan(1.2 * 1024 * 1024);
  });

  it("does not read what did not change, and adds only the chunks that did", async () => {
    const root = freshFolder("twice");
    const content = randomBytes(24 * 1024 * 1024);
    writeFileSync(join(root, "ledger"), content);
    for (let i = 0; i < 300; i += 1) writeFileSync(join(root, `note ${i}`), `note ${i} `.repeat(50));
    await new Promise((resolve) => setTimeout(resolve, 60)); // past the grain of the clock
    const depot = new TestDepot();
    const first = await snap(depot, root);
    const second = await snap(depot, root, { previous: first.previous });
    expect(second.figures).toMatchObject({ filesRead: 0, filesUnchanged: 301, bytesRead: 0 });
    expect(second.stored).toMatchObject({ newChunks: 0, packs: 0 });
    expect(Buffer.compare(second.root, first.root)).toBe(0);
    content.write("changed here", 12_000_000);
    writeFileSync(join(root, "ledger"), content);
    unlinkSync(join(root, "note 7"));
    const third = await snap(depot, root, { previous: second.previous });
    expect(third.figures).toMatchObject({ filesRead: 1, changed: 1, removed: 1, filesUnchanged: 299 });
    expect(third.stored.newBytes).toBeLessThan(6 * 1024 * 1024);
  });

  it("sees a change that keeps size and time of last change", async () => {
    const root = freshFolder("sly");
    writeFileSync(join(root, "a"), "one");
    setMtime(bytes(`${root}/a`), 1_600_000_000_000_000_000n);
    await new Promise((resolve) => setTimeout(resolve, 60));
    const depot = new TestDepot();
    const first = await snap(depot, root);
    writeFileSync(join(root, "a"), "two");
    setMtime(bytes(`${root}/a`), 1_600_000_000_000_000_000n);
    const second = await snap(depot, root, { previous: first.previous });
    expect(second.figures.changed).toBe(1);
  });

  it("pages a folder of 200,000 files, and a new name adds a page", async () => {
    const COUNT = 200_000;
    const root = existsSync("/dev/shm") ? mkdtempSync("/dev/shm/deep-keep-many-") : freshFolder("many");
    for (let i = 0; i < COUNT; i += 1) writeFileSync(join(root, `scan ${i}`), "");
    await new Promise((resolve) => setTimeout(resolve, 60));
    const depot = new TestDepot();
    const first = await snap(depot, root);
    const names: string[] = [];
    for await (const entry of folderEntries(depot.reader(), first.root)) names.push(entry.name);
    expect(names).toEqual(readdirSync(root).sort());
    const later: string[] = [];
    for await (const entry of folderEntries(depot.reader(), first.root, "scan 9990")) later.push(entry.name);
    expect(later).toEqual(names.filter((name) => name > "scan 9990"));
    writeFileSync(join(root, "scan 500 b"), "");
    const second = await snap(depot, root, { previous: first.previous });
    expect(second.figures.filesUnchanged).toBe(COUNT);
    expect(second.stored.newBytes).toBeLessThan(first.stored.newBytes / 20);
    rmSync(root, { recursive: true });
  }, 300_000);

  it("takes only what the clause What names", async () => {
    const root = freshFolder("choice");
    for (const path of [
      "home/ada/a.odt",
      "home/ada/film.mp4",
      "home/ada/cache/x",
      "srv/b.odt",
      "etc/passwd",
    ]) {
      mkdirSync(join(root, path, ".."), { recursive: true });
      writeFileSync(join(root, path), path);
    }
    const depot = new TestDepot();
    const result = await snap(depot, root, {
      folders: ["/home/ada", "/srv", "/not there"],
      exclude: ["*.mp4", "cache"],
    });
    const paths: string[] = [];
    for await (const { path } of walkTree(depot.reader(), result.root, "/")) paths.push(path);
    expect(paths).toEqual(["/home", "/home/ada", "/home/ada/a.odt", "/srv", "/srv/b.odt"]);
    expect(result.notes).toEqual([{ code: "folder.missing", path: "/not there" }]);
  });

  it("goes on when files grow, shrink or vanish while they are read", async () => {
    const root = freshFolder("moving");
    for (const name of ["a first", "grows", "shrinks", "vanishes", "z last"])
      writeFileSync(join(root, name), randomBytes(9 * 1024 * 1024));
    const depot = new TestDepot();
    const known = depot.known.bind(depot);
    let calls = 0;
    depot.known = async (ids) => {
      calls += 1;
      if (calls === 1) {
        unlinkSync(join(root, "vanishes"));
        appendFileSync(join(root, "grows"), "more");
        truncateSync(join(root, "shrinks"), 100);
      }
      return known(ids);
    };
    const result = await snap(depot, root);
    expect(result.notes.filter((note) => note.path === "/vanishes")).toEqual([
      { code: "file.vanished", path: "/vanishes" },
    ]);
    expect(result.counts.files).toBe(4);
    const target = freshFolder("target");
    expect((await bring(depot, result.root, target)).notes).toEqual([]);
    expect(readFileSync(join(target, "z last")).equals(readFileSync(join(root, "z last")))).toBe(true);
  });

  it("notes a file that changes under its hands", async () => {
    const root = freshFolder("changing");
    writeFileSync(join(root, "log"), randomBytes(70 * 1024 * 1024));
    const depot = new TestDepot();
    const known = depot.known.bind(depot);
    depot.known = async (ids) => {
      appendFileSync(join(root, "log"), "line\n");
      return known(ids);
    };
    expect((await snap(depot, root)).notes).toEqual([{ code: "file.changed-while-read", path: "/log" }]);
  });
});

describe("a restore that goes on after a break", () => {
  it("ends as one that was never broken, wherever that was, and makes nothing twice", async () => {
    const root = freshFolder("broken");
    mkdirSync(join(root, "d/deep"), { recursive: true });
    for (const name of ["a.txt", "b.txt", "deep/c.txt", "deep/d.txt", "e"])
      writeFileSync(join(root, "d", name), `content of ${name}`);
    linkSync(join(root, "d/a.txt"), join(root, "d/z.txt"));
    symlinkSync("a.txt", join(root, "d/link"));
    chmodSync(join(root, "d/deep"), 0o750);
    setMtime(bytes(join(root, "d/deep")), 1_700_000_000_123_456_789n);
    const depot = new TestDepot();
    const { root: tree } = await snap(depot, root);
    for (let breakAfter = 1; breakAfter <= 6; breakAfter += 1) {
      const target = freshFolder("broken-target");
      mkdirSync(join(target, "d"));
      // somebody's own, which stays
      writeFileSync(join(target, "d/b.txt"), "theirs");
      const since = new Date(Date.now() - 100);
      const told = { paths: ["/d"], goesOnSince: since };
      await bring(depot, tree, target, { paths: ["/d"], breakAfter }).catch((error: Error) =>
        expect(error.message).toBe("the machine went off"),
      );
      const { figures, notes } = await bring(depot, tree, target, told);
      expect([breakAfter, notes, figures.files]).toEqual([breakAfter, [], 6]);
      expect(readdirSync(join(target, "d")).sort()).toEqual([
        "a.txt",
        "b (2026-11-17 18.05).txt",
        "b.txt",
        "deep",
        "e",
        "link",
        "z.txt",
      ]);
      expect(readFileSync(join(target, "d/b.txt"), "utf8")).toBe("theirs");
      expect(readFileSync(join(target, "d/b (2026-11-17 18.05).txt"), "utf8")).toBe("content of b.txt");
      expect(readdirSync(join(target, "d/deep"))).toEqual(["c.txt", "d.txt"]);
      const folder = lstatSync(join(target, "d/deep"), { bigint: true });
      expect([folder.mode & 0o777n, folder.mtimeNs]).toEqual([0o750n, 1_700_000_000_123_456_789n]);
      expect(statSync(join(target, "d/a.txt")).ino).toBe(statSync(join(target, "d/z.txt")).ino);
    }
  });

  it("takes away what the broken attempt was putting in place when it was killed", async () => {
    const root = freshFolder("killed");
    mkdirSync(join(root, "d/deep"), { recursive: true });
    for (const name of ["a.txt", "deep/b.txt", "deep/c.txt"])
      writeFileSync(join(root, "d", name), `content of ${name}`);
    chmodSync(join(root, "d/deep/b.txt"), 0o640);
    symlinkSync("b.txt", join(root, "d/deep/link"));
    const depot = new TestDepot();
    const { root: tree } = await snap(depot, root);
    const target = freshFolder("killed-target");
    const since = new Date(Date.now() - 100);
    // as the program leaves them at any moment of making them: a file without its content and rights, one without its
    // rights alone, a link without its time
    const deep = join(target, "d/deep");
    mkdirSync(deep, { recursive: true });
    writeFileSync(join(deep, "b.txt"), "cont", { mode: 0o200 });
    putWithoutRights(root, target, "d/deep/c.txt");
    symlinkSync("b.txt", join(deep, "link"));
    // and larger ones under a name of their own, beside that of a restore that goes on at the same time
    for (const folder of [target, join(target, "d"), deep])
      writeFileSync(join(folder, ".deep-keep-mine-0a1b2c3d4e5f-7.part"), "the first half");
    const theirs = join(target, ".deep-keep-theirs-0a1b2c3d4e5f-7.part");
    writeFileSync(theirs, "the first half");
    const { notes } = await bring(depot, tree, target, { paths: ["/d"], goesOnSince: since, mark: "mine" });
    expect(notes).toEqual([]);
    expect(readdirSync(target).sort()).toEqual([basename(theirs), "d"]);
    expect(describeTree(join(target, "d"))).toEqual(describeTree(join(root, "d")));
  });

  it.skipIf(process.getuid!() !== 0)(
    "makes one whose own rights are those of what is not whole no second time",
    async () => {
      const root = freshFolder("drop-box");
      writeFileSync(join(root, "drop.box"), "slips");
      chmodSync(join(root, "drop.box"), 0o200);
      const depot = new TestDepot();
      const { root: tree } = await snap(depot, root);
      const target = freshFolder("drop-box-target");
      const since = new Date(Date.now() - 100);
      putWithoutRights(root, target, "drop.box");
      const there = statSync(join(target, "drop.box")).ino;
      await bring(depot, tree, target, { paths: ["/drop.box"], goesOnSince: since });
      expect(readdirSync(target)).toEqual(["drop.box"]);
      expect(statSync(join(target, "drop.box")).ino).toBe(there);
    },
  );

  it("takes nothing for its own that was there before", async () => {
    const root = freshFolder("before");
    mkdirSync(join(root, "d"));
    writeFileSync(join(root, "d/a.txt"), "one");
    const depot = new TestDepot();
    const { root: tree } = await snap(depot, root);
    // as it was, but from before the restore: it is kept beside, as always
    await bring(depot, tree, root, { paths: ["/d"], goesOnSince: new Date(Date.now() + 1000) });
    expect(readdirSync(join(root, "d"))).toHaveLength(2);
  });
});

describe("when something is there already", () => {
  async function kept() {
    const root = freshFolder("clash");
    mkdirSync(join(root, "d"));
    writeFileSync(join(root, "d/rota.ods"), "old");
    const depot = new TestDepot();
    const { root: tree } = await snap(depot, root);
    writeFileSync(join(root, "d/rota.ods"), "new");
    return { root, depot, tree };
  }
  it("keeps both, with date and time in the name", async () => {
    const { root, depot, tree } = await kept();
    await bring(depot, tree, root, { paths: ["/d/rota.ods"] });
    await bring(depot, tree, root, { paths: ["/d"] });
    expect(readdirSync(join(root, "d")).sort()).toEqual([
      "rota (2026-11-17 18.05 2).ods",
      "rota (2026-11-17 18.05).ods",
      "rota.ods",
    ]);
    expect(readFileSync(join(root, "d/rota.ods"), "utf8")).toBe("new");
  });
  it("replaces, or skips", async () => {
    const { root, depot, tree } = await kept();
    expect((await bring(depot, tree, root, { clash: "skip" })).figures).toMatchObject({
      skipped: 1,
      files: 0,
    });
    expect(readFileSync(join(root, "d/rota.ods"), "utf8")).toBe("new");
    expect((await bring(depot, tree, root, { clash: "replace" })).figures).toMatchObject({
      replaced: 1,
      files: 1,
    });
    expect(readFileSync(join(root, "d/rota.ods"), "utf8")).toBe("old");
    expect(readdirSync(join(root, "d"))).toEqual(["rota.ods"]);
  });
  it("does not skip for what a program left that was killed over it", async () => {
    const { root, depot, tree } = await kept();
    chmodSync(join(root, "d/rota.ods"), 0o200);
    expect((await bring(depot, tree, root, { clash: "skip" })).figures).toMatchObject({
      skipped: 0,
      keptBoth: 1,
    });
    expect(readFileSync(join(root, "d/rota (2026-11-17 18.05).ods"), "utf8")).toBe("old");
    expect(readdirSync(join(root, "d"))).toHaveLength(2);
  });
  it("goes to another folder by its name, making what is missing", async () => {
    const { root, depot, tree } = await kept();
    await bring(depot, tree, root, { paths: ["/d/rota.ods", "/d"], folder: "/back/here" });
    expect(readdirSync(join(root, "back/here")).sort()).toEqual(["d", "rota.ods"]);
  });
  it("never follows a symbolic link out of its destination", async () => {
    const { root, depot, tree } = await kept();
    const outside = freshFolder("outside");
    renameSync(join(root, "d"), join(root, "moved"));
    symlinkSync(outside, join(root, "d"));
    await expect(bring(depot, tree, root, { paths: ["/d/rota.ods"], clash: "replace" })).rejects.toThrow(
      /destination path contains a link/,
    );
    const { notes } = await bring(depot, tree, root, { paths: ["/d"], clash: "replace" });
    expect(notes).toEqual([{ code: "restore.link-in-path", path: "/d" }]);
    expect(readdirSync(outside)).toEqual([]);
    expect(existsSync(join(root, "d/rota.ods"))).toBe(false);
    expect(lstatSync(join(root, "d")).isSymbolicLink()).toBe(true);
  });
});
