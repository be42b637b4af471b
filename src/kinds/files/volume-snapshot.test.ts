import { execFileSync } from "node:child_process";
import {
  appendFileSync,
  cpSync,
  existsSync,
  mkdirSync,
  readdirSync,
  readFileSync,
  rmSync,
  truncateSync,
  writeFileSync,
} from "node:fs";
import { join } from "node:path";
import { afterAll, beforeAll, describe, expect, it } from "vitest";
import { walkTree } from "@/store/read/browse";
import { showBytes } from "@/store/tree/tree";
import { bring, freshFolder, snap, TestDepot } from "../../../tests/depot";
import { FilesReader } from "./reader";
import {
  isWithin,
  mountsOf,
  releaseLeft,
  SNAPSHOTS_FOLDER,
  takeVolumeSnapshot,
  touchedBy,
  type VolumeSnapshots,
} from "./volume-snapshot";

const ledger = (): VolumeSnapshots & { paths: readonly string[] } => ({
  paths: [],
  read() {
    return this.paths;
  },
  write(paths) {
    this.paths = paths;
  },
});

describe("what is touched", () => {
  const places = ["/", "/srv", "/srv/mail", "/home", "/srvice"].map((path) => ({ path }));
  const of = (...folders: string[]) => touchedBy(places, folders).map(({ path }) => path);
  it("is what a folder lies on, and what lies in it", () => {
    expect(of("/home/ines")).toEqual(["/home"]);
    expect(of("/srv")).toEqual(["/srv", "/srv/mail"]);
    expect(of("/etc", "/srv/mail/in")).toEqual(["/", "/srv/mail"]);
    expect(of("/").sort()).toEqual(places.map(({ path }) => path).sort());
  });
  it("does not take the beginning of a name for a folder", () => {
    expect(isWithin("/srvice/a", "/srv")).toBe(false);
    expect(isWithin("/srv", "/srv")).toBe(true);
    expect(isWithin("/anything", "/")).toBe(true);
  });
  it("is read from the system's list, blanks in names and later mounts included", () => {
    expect(
      mountsOf("/dev/a / ext4 rw 0 0\n/dev/b /mnt/my\\040disk btrfs rw 0 0\n/dev/c / btrfs rw 0 0\n"),
    ).toEqual([
      { path: "/", system: "btrfs", device: "/dev/c" },
      { path: "/mnt/my disk", system: "btrfs", device: "/dev/b" },
    ]);
  });
});

describe("reading where it stands still", () => {
  it("takes what a snapshot holds under the names of the live tree, and other volumes as they are", async () => {
    const live = freshFolder("live");
    for (const path of ["books", "books/other volume"]) mkdirSync(join(live, path));
    writeFileSync(join(live, "books/ledger"), "as it was");
    const still = join(freshFolder("still"), "1");
    cpSync(join(live, "books"), still, { recursive: true, preserveTimestamps: true });
    writeFileSync(join(live, "books/ledger"), "something quite different");
    writeFileSync(join(live, "books/other volume/note"), "live");
    const books = join(live, "books");
    const at = (path: string) =>
      isWithin(path, join(books, "other volume")) || !isWithin(path, books)
        ? path
        : still + path.slice(books.length);
    const depot = new TestDepot();
    const { root } = await snap(depot, live, { reader: new FilesReader(live, [], at) });
    const target = freshFolder("target");
    await bring(depot, root, target);
    expect(readFileSync(join(target, "books/ledger"), "utf8")).toBe("as it was");
    expect(readFileSync(join(target, "books/other volume/note"), "utf8")).toBe("live");
  });

  it("never keeps what is in the folder of snapshots, and says why a volume makes none", async () => {
    const live = freshFolder("live");
    mkdirSync(join(live, SNAPSHOTS_FOLDER, "left"), { recursive: true });
    writeFileSync(join(live, SNAPSHOTS_FOLDER, "left/file"), "x");
    writeFileSync(join(live, "file"), "x");
    const depot = new TestDepot();
    const { root } = await snap(depot, live);
    const names = [];
    for await (const { path } of walkTree(depot.reader(), root, "/")) names.push(showBytes(path));
    expect(names).toEqual([`/${SNAPSHOTS_FOLDER}`, "/file"]);
    const known = ledger();
    const { still, moving, at } = await takeVolumeSnapshot(["/proc/self", live], "m", known);
    expect(still).toEqual([]);
    expect(moving).toHaveLength(1);
    expect(moving[0]!.why).toMatch(/makes no snapshots|run as root|not installed|not the whole/);
    expect(at(join(live, "file"))).toBe(join(live, "file"));
    expect(known.paths).toEqual([]);
  });
});

/** A real volume of its own, where this account may mount one. */
function btrfsVolume(): string | null {
  const folder = freshFolder("btrfs");
  const image = join(folder, "image");
  const mount = join(folder, "volume");
  mkdirSync(mount);
  writeFileSync(image, "");
  truncateSync(image, 256 * 1024 ** 2);
  try {
    execFileSync("mkfs.btrfs", ["-q", image], { stdio: "ignore" });
    execFileSync("mount", ["-o", "loop", image, mount], { stdio: "ignore" });
    return mount;
  } catch {
    return null;
  }
}
const volume = btrfsVolume();

describe.runIf(volume)("a snapshot of a real volume", () => {
  const books = join(volume ?? "", "books");
  const inside = join(books, "letters");
  beforeAll(() => {
    for (const path of [books, inside]) execFileSync("btrfs", ["-q", "subvolume", "create", path]);
    writeFileSync(join(books, "ledger"), "1");
    writeFileSync(join(inside, "letter"), "1");
    writeFileSync(join(volume!, "beside"), "1");
  });
  afterAll(() => {
    execFileSync("umount", [volume!]);
  });
  const snapshots = () => {
    const folder = join(volume!, SNAPSHOTS_FOLDER);
    return existsSync(folder) ? readdirSync(folder) : [];
  };

  it("holds what was there when it was made, subvolumes in it included, and is taken away", async () => {
    const known = ledger();
    const made = await takeVolumeSnapshot([books], "run", known);
    expect(made.moving).toEqual([]);
    expect([...made.still].sort()).toEqual([books, inside]);
    expect(known.paths).toHaveLength(2);
    for (const file of [join(books, "ledger"), join(inside, "letter")]) appendFileSync(file, "2");
    const depot = new TestDepot();
    const { root } = await snap(depot, volume!, {
      reader: new FilesReader(volume!, [], made.at),
      folders: ["/books"],
    });
    await made.release();
    expect(snapshots()).toEqual([]);
    expect(known.paths).toEqual([]);
    const target = freshFolder("target");
    await bring(depot, root, target);
    expect(readFileSync(join(target, "books/ledger"), "utf8")).toBe("1");
    expect(readFileSync(join(target, "books/letters/letter"), "utf8")).toBe("1");
  });

  it("is known to the next run by inode and times, so that nothing is read twice", async () => {
    await new Promise((resolve) => setTimeout(resolve, 60));
    const depot = new TestDepot();
    const read = async (previous?: Awaited<ReturnType<typeof snap>>["previous"]) => {
      const made = await takeVolumeSnapshot([books], "again", ledger());
      try {
        const reader = new FilesReader(volume!, [], made.at);
        return await snap(depot, volume!, { reader, folders: ["/books"], ...(previous ? { previous } : {}) });
      } finally {
        await made.release();
      }
    };
    const first = await read();
    expect((await read(first.previous)).figures).toMatchObject({ filesRead: 0, filesUnchanged: 2 });
  });

  it("of a run that was killed is taken away by the next", async () => {
    const known = ledger();
    await takeVolumeSnapshot([volume!], "killed", known);
    expect(snapshots()).toHaveLength(3);
    await releaseLeft(known);
    expect(snapshots()).toEqual([]);
    rmSync(join(volume!, SNAPSHOTS_FOLDER), { recursive: true });
  });
});
