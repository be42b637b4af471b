import {
  chmodSync,
  existsSync,
  lstatSync,
  mkdirSync,
  readdirSync,
  readFileSync,
  readlinkSync,
  statSync,
  symlinkSync,
  writeFileSync,
} from "node:fs";
import { join } from "node:path";
import { Blake3Hasher } from "@napi-rs/blake-hash";
import { afterEach, describe, expect, it } from "vitest";
import { readXattrs } from "@/sources/machine/libc";
import { byteString } from "@/store/tree/tree";
import { freshFolder } from "../../../tests/depot";
import { isUnfinished, type Metadata, OwnFolders, putFile, setMetadata, UNFINISHED_MODE } from "./put-file";

const MTIME = 1_700_000_000_123_456_789n;
const metadata = (more: Partial<Metadata> = {}): Metadata => ({
  uid: process.getuid!(),
  gid: process.getgid!(),
  mode: 0o640,
  mtime: MTIME,
  ...more,
});
const seen = (path: string) => {
  const { mode, mtimeNs, uid, gid } = lstatSync(path, { bigint: true });
  return { mode: Number(mode & 0o7777n), mtimeNs, uid: Number(uid), gid: Number(gid) };
};
const whole = { mode: 0o640, mtimeNs: MTIME, uid: process.getuid!(), gid: process.getgid!() };
const content = Buffer.from("Rye, salt, water, and a night's rest.");
const digestOf = (bytes: Uint8Array) => {
  const hasher = new Blake3Hasher();
  hasher.update(bytes as Buffer);
  return hasher.digest("hex");
};
const attribute = ["user.recipe", Buffer.from("old")] as const;

describe("a file that is put by its name", () => {
  it("has its content, rights, time and attributes", () => {
    const path = join(freshFolder("put"), "recipe");
    const put = putFile(byteString(path), content, metadata({ xattrs: [attribute] }), true);
    expect(put).toEqual({ owner: null, attributes: [], digest: digestOf(content) });
    expect(readFileSync(path).equals(content)).toBe(true);
    expect(seen(path)).toEqual(whole);
    expect(readXattrs(Buffer.from(path)).map(([name, value]) => [name, String(value)])).toEqual([
      ["user.recipe", "old"],
    ]);
    expect(putFile(byteString(`${path} 2`), Buffer.alloc(0), metadata(), false).digest).toBeNull();
    expect(statSync(`${path} 2`).size).toBe(0);
  });

  it("never takes the place of another, nor goes through a link", () => {
    const folder = freshFolder("put");
    writeFileSync(join(folder, "there"), "somebody's");
    symlinkSync("elsewhere", join(folder, "link"));
    for (const name of ["there", "link"])
      expect(() => putFile(byteString(join(folder, name)), content, metadata(), false)).toThrow(/EEXIST/);
    expect(readFileSync(join(folder, "there"), "utf8")).toBe("somebody's");
    expect(readdirSync(folder).sort()).toEqual(["link", "there"]);
    expect(() => putFile(byteString(join(folder, "no/such/folder")), content, metadata(), false)).toThrow(
      /ENOENT/,
    );
  });

  it("is whole also where an attribute cannot be set, which is told", () => {
    const path = join(freshFolder("put"), "recipe");
    const left = putFile(
      byteString(path),
      content,
      metadata({ xattrs: [["nobody.knows", Buffer.from("x")], attribute] }),
      false,
    );
    expect(left.attributes).toHaveLength(1);
    expect(left.attributes[0]).toMatch(/EOPNOTSUPP|ENOTSUP/);
    expect(seen(path)).toEqual(whole);
    expect(readXattrs(Buffer.from(path))).toHaveLength(1);
  });

  it.runIf(process.getuid!() === 0)("keeps rights that giving it to somebody would clear", () => {
    const path = join(freshFolder("put"), "tool");
    putFile(byteString(path), content, metadata({ uid: 1234, gid: 2345, mode: 0o6755 }), false);
    expect(seen(path)).toMatchObject({ uid: 1234, gid: 2345, mode: 0o6755 });
  });

  it("has names of any bytes", () => {
    const folder = freshFolder("put");
    putFile(`${byteString(folder)}/f\xffg`, content, metadata(), false);
    expect(readdirSync(folder, { encoding: "buffer" })[0]!.equals(Buffer.from([0x66, 0xff, 0x67]))).toBe(
      true,
    );
  });
});

describe("files in folders of one's own", () => {
  const folders = new OwnFolders();
  afterEach(() => folders.close());
  const put = (folder: string, name: string, more: Partial<Metadata> = {}) =>
    folders.put(byteString(folder), byteString(name), content, metadata(more), true);

  it("are put one after another, folder by folder", () => {
    const root = freshFolder("own");
    for (const folder of ["a", "b", "a/c"]) mkdirSync(join(root, folder));
    for (const folder of ["a", "a", "b", "a/c", "a"]) {
      const name = `file ${readdirSync(join(root, folder)).length}`;
      expect(put(join(root, folder), name)).toEqual({
        owner: null,
        attributes: [],
        digest: digestOf(content),
      });
      expect(seen(join(root, folder, name))).toEqual(whole);
    }
    expect(readdirSync(join(root, "a")).sort()).toEqual(["c", "file 1", "file 2", "file 3"]);
  });

  it("are not put over something, into a link, or where there is no folder", () => {
    const root = freshFolder("own");
    mkdirSync(join(root, "a"));
    symlinkSync("a", join(root, "to a"));
    writeFileSync(join(root, "a/there"), "somebody's");
    expect(put(join(root, "a"), "there")).toBeNull();
    expect(put(join(root, "to a"), "new")).toBeNull();
    expect(put(join(root, "b"), "new")).toBeNull();
    expect(put(join(root, "a/there"), "new")).toBeNull();
    expect(readFileSync(join(root, "a/there"), "utf8")).toBe("somebody's");
    expect(readdirSync(join(root, "a"))).toEqual(["there"]);
    expect(readlinkSync(join(root, "to a"))).toBe("a");
  });

  it("leave nothing where they cannot be made whole", () => {
    const root = freshFolder("own");
    expect(() => put(root, "file", { mode: 2 ** 40 })).toThrow();
    expect(existsSync(join(root, "file"))).toBe(false);
    expect(put(root, "file")).not.toBeNull();
  });

  it("are known as unfinished by their rights alone", () => {
    const root = freshFolder("own");
    const path = join(root, "half");
    writeFileSync(path, "half of");
    chmodSync(path, UNFINISHED_MODE);
    expect(isUnfinished(lstatSync(path))).toBe(true);
    expect(isUnfinished(lstatSync(path, { bigint: true }))).toBe(true);
    chmodSync(path, 0o600);
    expect(isUnfinished(lstatSync(path))).toBe(false);
    expect(isUnfinished(lstatSync(root))).toBe(false);
    expect(isUnfinished(undefined)).toBe(false);
  });
});

describe("what is set on folders and links", () => {
  it("is time and rights of a folder, and of a link the time alone", () => {
    const root = freshFolder("set");
    mkdirSync(join(root, "folder"));
    writeFileSync(join(root, "target"), "");
    chmodSync(join(root, "target"), 0o600);
    symlinkSync("target", join(root, "link"));
    const before = seen(join(root, "target"));
    setMetadata(byteString(join(root, "folder")), metadata({ mode: 0o750 }));
    setMetadata(byteString(join(root, "link")), metadata({ mode: 0o777 }), true);
    expect(seen(join(root, "folder"))).toMatchObject({ mode: 0o750, mtimeNs: MTIME });
    expect(seen(join(root, "link")).mtimeNs).toBe(MTIME);
    expect(seen(join(root, "target"))).toEqual(before);
  });
});
