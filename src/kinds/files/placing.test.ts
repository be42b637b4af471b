import { execFileSync } from "node:child_process";
import {
  chmodSync,
  chownSync,
  closeSync,
  mkdirSync,
  openSync,
  readdirSync,
  readFileSync,
  statSync,
  watch,
  writeFileSync,
} from "node:fs";
import { join } from "node:path";
import { Blake3Hasher } from "@napi-rs/blake-hash";
import fc from "fast-check";
import { expect, test, vi } from "vitest";
import { readXattrs } from "@/sources/machine/libc";
import { byteString } from "@/store/tree/tree";
import { freshFolder } from "../../../tests/depot";
import { beginPlacing, SMALL_BYTES } from "./placing";
import type { Placed } from "./placing-batch";

const owner = { uid: process.getuid!(), gid: process.getgid!() };
const at = (folder: string, name: string, more: object = {}) => ({
  folder: byteString(folder),
  name: byteString(name),
  fresh: true,
  metadata: { ...owner, mode: 0o640, mtime: 1_700_000_000_123_456_789n },
  digest: true,
  ...more,
});
const blake3 = (bytes: Uint8Array) => {
  const hasher = new Blake3Hasher();
  hasher.update(bytes as Buffer);
  return hasher.digest("hex");
};

test("every file is whole, dated and told of in order, however they fall into batches", async () => {
  const size = fc.oneof(fc.nat(300), fc.integer({ min: 0, max: SMALL_BYTES }));
  await fc.assert(
    fc.asyncProperty(fc.array(size, { maxLength: 150 }), async (sizes) => {
      const folder = freshFolder("placing");
      const placing = beginPlacing("test");
      const told: [number, Placed][] = [];
      const afterwards: number[] = [];
      const contents = sizes.map((length, i) => Buffer.alloc(length, i % 251));
      for (const [i, content] of contents.entries()) {
        const cut = Math.floor(content.length / 3);
        const pieces = [content.subarray(0, cut), content.subarray(cut)];
        await placing.put(at(folder, `file ${i}`), pieces, (placed) => told.push([i, placed]));
        if (i % 7 === 0) placing.afterwards(() => afterwards.push(told.length));
      }
      await placing.drained();
      expect(told.map(([i]) => i)).toEqual(sizes.map((_, i) => i));
      for (const [i, placed] of told)
        expect(placed).toMatchObject({ digest: blake3(contents[i]!), owner: null });
      for (const [i, content] of contents.entries()) {
        expect(readFileSync(join(folder, `file ${i}`)).equals(content)).toBe(true);
        const found = statSync(join(folder, `file ${i}`), { bigint: true });
        expect([found.mtimeNs, Number(found.mode & 0o777n)]).toEqual([1_700_000_000_123_456_789n, 0o640]);
      }
      expect(readdirSync(folder)).toHaveLength(sizes.length);
      // whatever was to be done afterwards came when all before it was in place
      expect(afterwards).toEqual(sizes.flatMap((_, i) => (i % 7 === 0 ? [i + 1] : [])));
    }),
    { numRuns: 25 },
  );
});

test("what cannot be put in place is told beside it, and leaves nothing", async () => {
  const folder = freshFolder("placing");
  mkdirSync(join(folder, "full"));
  writeFileSync(join(folder, "full/something"), "");
  mkdirSync(join(folder, "empty"));
  const placing = beginPlacing("test");
  const told: Record<string, Placed> = {};
  const put = (name: string, more: object = {}) =>
    placing.put(at(folder, name, more), [Buffer.from(name)], (placed) => {
      told[name] = placed;
    });
  await put("full", { fresh: false });
  await put("empty", { fresh: false });
  await put("very long".repeat(40));
  await put("at all", { folder: byteString(join(folder, "nowhere")) });
  await put("good");
  await placing.drained();
  expect(told.full).toMatchObject({ code: "restore.cannot-write", coded: true });
  expect(told["very long".repeat(40)]).toMatchObject({ code: "ENAMETOOLONG", coded: false });
  expect(told["at all"]).toMatchObject({ code: "ENOENT", coded: false });
  expect(told.good).toMatchObject({ digest: blake3(Buffer.from("good")) });
  expect(readFileSync(join(folder, "empty"), "utf8")).toBe("empty");
  expect(readdirSync(folder).sort()).toEqual(["empty", "full", "good"]);
});

const small = smallVolume();

test.skipIf(small === null)(
  "of what there is no room for nothing is left, and the others are whole",
  async () => {
    const placing = beginPlacing("test");
    const told: Placed[] = [];
    for (const fresh of [true, false])
      for (const [i, length] of [10_000, 200_000, 9000].entries())
        await placing.put(at(small!, `${fresh} ${i}`, { fresh }), [Buffer.alloc(length, 1)], (placed) =>
          told.push(placed),
        );
    await placing.drained();
    const codes = told.map((placed) => ("code" in placed ? placed.code : null));
    expect(codes).toEqual([null, "ENOSPC", null, null, "ENOSPC", null]);
    expect(readdirSync(small!).sort()).toEqual(["false 0", "false 2", "true 0", "true 2"]);
    for (const name of readdirSync(small!)) {
      const { size, mode } = statSync(join(small!, name));
      expect([size > 8999, mode & 0o777]).toEqual([true, 0o640]);
    }
    execFileSync("umount", [small!]);
  },
);

/** A volume in memory with little room, where this account may mount one. */
function smallVolume(): string | null {
  const folder = freshFolder("small");
  try {
    execFileSync("mount", ["-t", "tmpfs", "-o", "size=128k", "tmpfs", folder], { stdio: "ignore" });
    return folder;
  } catch {
    return null;
  }
}

test("a file has no other name on its way, and gives way to nothing that came meanwhile", async () => {
  const folder = freshFolder("placing");
  const seen = new Set<string>();
  const watcher = watch(folder, (_event, name) => seen.add(String(name)));
  writeFileSync(join(folder, "meanwhile"), "somebody's");
  const placing = beginPlacing("test");
  const xattrs = [["user.keeper", Buffer.from("ada")]] as const;
  const told: Placed[] = [];
  for (const name of ["one", "two", "meanwhile"])
    await placing.put(
      at(folder, name, { metadata: { ...at(folder, name).metadata, xattrs } }),
      [Buffer.from(name)],
      (placed) => told.push(placed),
    );
  await placing.drained();
  await vi.waitFor(() => expect(seen).toContain("two"));
  watcher.close();
  expect(readdirSync(folder).sort()).toEqual(["meanwhile", "one", "two"]);
  for (const name of ["one", "two", "meanwhile"]) {
    expect(readFileSync(join(folder, name), "utf8")).toBe(name);
    expect(statSync(join(folder, name)).mode & 0o777).toBe(0o640);
    const left = told.flatMap((placed) => ("code" in placed ? [placed.message] : placed.attributes));
    if (left.length === 0)
      expect(readXattrs(Buffer.from(join(folder, name)))).toEqual([["user.keeper", Buffer.from("ada")]]);
    else expect(left.every((message) => message.includes("ENOTSUP"))).toBe(true);
  }
  expect(seen).not.toContain(".one.part");
  expect(seen).not.toContain(".two.part");
});

test("any number of things can be done after one file, and after none", async () => {
  const placing = beginPlacing("test");
  let done = 0;
  const often = () => {
    for (let i = 0; i < 30_000; i += 1)
      placing.afterwards(() => {
        done += 1;
      });
  };
  often();
  await placing.put(at(freshFolder("placing"), "one"), [Buffer.from("one")], () => {
    expect(done).toBe(30_000);
  });
  often();
  await placing.drained();
  expect(done).toBe(60_000);
});

test("pieces of a large file are written where they belong, and what hinders one comes out", async () => {
  const path = join(freshFolder("placing"), "large");
  const fd = openSync(path, "w");
  const placing = beginPlacing("test");
  const shared = new Uint8Array(new SharedArrayBuffer(20)).fill(65);
  await Promise.all([placing.write(fd, shared.subarray(4, 8), 3), placing.write(fd, Buffer.from("one"), 0)]);
  expect(readFileSync(path, "utf8")).toBe("oneAAAA");
  closeSync(fd);
  const readOnly = openSync(path, "r");
  await expect(placing.write(readOnly, shared, 0)).rejects.toMatchObject({ code: "EBADF" });
  closeSync(readOnly);
});

test("rights and owner come out as they were, whatever a new file gets by itself", async () => {
  const folder = freshFolder("placing");
  const isRoot = process.getuid!() === 0;
  // what is made in it belongs to its group
  if (isRoot) chownSync(folder, 0, 4242);
  chmodSync(folder, 0o2755);
  const placing = beginPlacing("test");
  const owners = isRoot ? [owner, { uid: 1234, gid: 5678 }, { uid: 0, gid: 4242 }] : [owner];
  const wanted = [0o644, 0o666, 0o600, 0o000, 0o777, 0o4755, 0o2711, 0o1640].flatMap((mode) =>
    owners.flatMap((one) => [true, false].map((fresh) => ({ ...one, mode, fresh }))),
  );
  for (const [i, { fresh, ...rights }] of wanted.entries()) {
    const metadata = { ...at(folder, "").metadata, ...rights };
    await placing.put(at(folder, `file ${i}`, { fresh, metadata }), [Buffer.from("x")], (placed) =>
      expect(placed).toMatchObject({ owner: null, attributes: [] }),
    );
  }
  await placing.drained();
  for (const [i, { uid, gid, mode }] of wanted.entries()) {
    const found = statSync(join(folder, `file ${i}`));
    expect([i, found.uid, found.gid, (found.mode & 0o7777).toString(8)]).toEqual([
      i,
      uid,
      gid,
      mode.toString(8),
    ]);
  }
});
