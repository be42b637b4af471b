import { randomBytes } from "node:crypto";
import { readdirSync } from "node:fs";
import { join } from "node:path";
import { afterEach, beforeEach, describe, expect, it } from "vitest";
import type { BucketPlace } from "@/core/bucket";
import { S3Server } from "@/standins/s3/server";
import { freshFolder } from "../../../tests/depot";
import { LocalFolder } from "./local-folder";
import type { Place } from "./place";
import { S3Bucket } from "./s3-bucket";

let server: S3Server;
let endpoint: string;
const settings = (change: Partial<BucketPlace> = {}): BucketPlace => ({
  endpoint,
  region: "north-harbour",
  bucket: "keep",
  prefix: "deep/",
  pathStyle: true,
  storageClass: null,
  accessKeyId: "deep-keep",
  ...change,
});
const bucket = (change: Partial<BucketPlace> = {}, secret = "harbour") =>
  new S3Bucket(settings(change), secret);
const listed = async (place: Place, prefix: string) => {
  const names: string[] = [];
  for await (const name of place.list(prefix)) names.push(name);
  return names.sort();
};

beforeEach(async () => {
  server = new S3Server({
    page: 3,
    keys: {
      "deep-keep": { secret: "harbour" },
      writer: { secret: "w", mayRead: false },
      reader: { secret: "r", mayWrite: false },
    },
  });
  endpoint = await server.listen();
});
afterEach(() => server.close());

const places: [string, () => Place][] = [
  ["a local folder", () => new LocalFolder(freshFolder("place"))],
  ["a bucket", () => bucket()],
];

describe.each(places)("%s as a place", (_name, make) => {
  it("gives back what was put, whole and in ranges", async () => {
    const place = make();
    const content = randomBytes(100_000);
    expect(await place.put("packs/ab/one", [content.subarray(0, 70_000), content.subarray(70_000)])).toBe(
      100_000,
    );
    expect(await place.size("packs/ab/one")).toBe(100_000);
    expect((await place.read("packs/ab/one", 0, 100_000)).equals(content)).toBe(true);
    expect((await place.read("packs/ab/one", 99_990, 50)).equals(content.subarray(99_990))).toBe(true);
    expect((await place.read("packs/ab/one", 100_000, 50)).length).toBe(0);
    expect((await place.read("packs/ab/one", 5, 0)).length).toBe(0);
  });

  it("takes an empty object, and one of 20 MiB from pieces of odd sizes whose memory is used again", async () => {
    const place = make();
    await place.put("empty", []);
    expect(await place.size("empty")).toBe(0);
    const content = randomBytes(20 * 1024 * 1024 + 7);
    const memory = Buffer.alloc(777_777);
    async function* pieces() {
      for (let at = 0; at < content.length; at += memory.length) {
        const length = content.copy(memory, 0, at);
        yield memory.subarray(0, length);
      }
    }
    expect(await place.put("large", pieces())).toBe(content.length);
    expect((await place.read("large", 0, content.length)).equals(content)).toBe(true);
  });

  it("never overwrites", async () => {
    const place = make();
    await place.put("points/a", [Buffer.from("one")]);
    await expect(place.put("points/a", [Buffer.from("two")])).rejects.toMatchObject({
      code: "request.conflict",
    });
    const large = [randomBytes(9 * 1024 * 1024)];
    await place.put("points/b", large);
    await expect(place.put("points/b", large)).rejects.toMatchObject({ code: "request.conflict" });
    expect((await place.read("points/a", 0, 10)).toString()).toBe("one");
  });

  it("leaves nothing of an object whose content breaks off", async () => {
    const place = make();
    for (const size of [5, 9 * 1024 * 1024]) {
      const broken = (async function* () {
        yield Buffer.alloc(size);
        throw new Error("cut");
      })();
      await expect(place.put("points/b", broken)).rejects.toThrow("cut");
      expect(await listed(place, "points/")).toEqual([]);
    }
    await place.put("points/b", [Buffer.from("whole")]);
  });

  it("lists what is below a prefix, page after page, and forgets what is removed", async () => {
    const place = make();
    for (let i = 0; i < 8; i += 1) await place.put(`packs/0${i}/p${i}`, [Buffer.from("x")]);
    await place.put("points/p", [Buffer.from("x")]);
    expect((await listed(place, "packs/")).length).toBe(8);
    expect(await listed(place, "nothing/")).toEqual([]);
    await place.remove("packs/03/p3");
    await place.remove("packs/03/p3");
    expect(await listed(place, "packs/")).not.toContain("packs/03/p3");
    await expect(place.size("packs/03/p3")).rejects.toMatchObject({ code: "not-found" });
    await expect(place.read("packs/03/p3", 0, 1)).rejects.toMatchObject({ code: "not-found" });
  });

  it.each(["../x", "a/../../x", "/etc/x", "a//b", "", "a\0b", "."])(
    "takes no name such as %j",
    async (name) => {
      await expect(make().put(name, [])).rejects.toMatchObject({ code: "request.invalid" });
    },
  );
});

describe("a local folder", () => {
  it("is not written to when not found, and shows no unfinished object", async () => {
    const folder = freshFolder("place");
    await expect(new LocalFolder(join(folder, "gone")).put("a", [])).rejects.toMatchObject({
      code: "depot.not-reached",
    });
    await new LocalFolder(folder).put("points/a", [Buffer.from("one")]);
    expect(readdirSync(join(folder, "points"))).toEqual(["a"]);
  });
});

describe("a bucket", () => {
  it("keeps objects under its prefix, in the storage class wished for", async () => {
    await bucket({ storageClass: "STANDARD_IA" }).put("points/a", [Buffer.from("x")]);
    await bucket({ storageClass: "STANDARD_IA" }).put("points/b", [Buffer.alloc(9 * 1024 * 1024)]);
    expect([...server.objects].map(([key, object]) => [key, object.storageClass])).toEqual([
      ["deep/points/a", "STANDARD_IA"],
      ["deep/points/b", "STANDARD_IA"],
    ]);
  });

  it("locks what is to be locked: nobody removes it before its day", async () => {
    const until = new Date(Date.now() + 86_400_000);
    await bucket().put("points/a", [Buffer.from("x")], until);
    await bucket().put("points/b", [Buffer.alloc(9 * 1024 * 1024)], until);
    for (const name of ["points/a", "points/b"])
      await expect(bucket().remove(name)).rejects.toMatchObject({ code: "depot.not-allowed" });
    expect(server.objects.size).toBe(2);
  });

  it.each<"off" | "ignored">(["off", "ignored"])(
    "says that a bucket whose lock is %s does not lock, and keeps nothing unlocked",
    async (lock) => {
      await server.close();
      server = new S3Server({ lock });
      endpoint = await server.listen();
      const place = bucket();
      expect(await place.lockSupport()).toMatchObject({ state: "missing" });
      const until = new Date(Date.now() + 86_400_000);
      for (const size of [5, 9 * 1024 * 1024])
        await expect(place.put(`points/${size}`, [Buffer.alloc(size)], until)).rejects.toMatchObject({
          code: "depot.lock-refused",
        });
      expect(await listed(place, "points/")).toEqual([]);
      expect(server.uploads.size).toBe(0);
      await place.put("points/free", [Buffer.from("x")]);
      await expect(place.extendLock("points/free", until)).rejects.toMatchObject({
        code: "depot.lock-refused",
      });
    },
  );
  it("says that it locks", async () => {
    expect(await bucket().lockSupport()).toEqual({ state: "available", said: null });
  });
  it("frees what is removed also where a removal only puts a marker over it, unless it is locked", async () => {
    await server.close();
    server = new S3Server({ versioned: true });
    endpoint = await server.listen();
    const place = bucket();
    const until = new Date(Date.now() + 86_400_000);
    await place.put("points/a", [Buffer.from("x")]);
    await place.put("points/ab", [Buffer.from("other")]);
    await place.put("points/b", [Buffer.from("kept")], until);
    await place.remove("points/a");
    await place.remove("points/nothing");
    await expect(place.remove("points/b")).rejects.toMatchObject({ code: "depot.not-allowed" });
    expect(server.hidden).toEqual([]);
    expect(await listed(place, "points/")).toEqual(["points/ab", "points/b"]);
    expect((await place.read("points/b", 0, 9)).toString()).toBe("kept");
  });
  it("lists and removes uploads in parts that nobody completed, and no one else's", async () => {
    const place = bucket();
    const other = bucket({ prefix: "other/" });
    // the upload is begun and its writer dies
    for (const [where, name] of [
      [place, "packs/aa/one"],
      [other, "packs/aa/two"],
    ] as const) {
      const uploads = server.uploads.size;
      void where
        .put(
          name,
          (async function* () {
            yield Buffer.alloc(9 * 1024 * 1024);
            await new Promise(() => {});
          })(),
        )
        .catch(() => {});
      while (
        server.uploads.size === uploads ||
        [...server.uploads.values()].some(({ parts }) => parts.size === 0)
      )
        await new Promise((next) => setTimeout(next, 20));
    }
    const found = [];
    for await (const one of place.listUnfinished("packs/")) found.push(one);
    expect(found.map(({ name }) => name)).toEqual(["packs/aa/one"]);
    await found[0]!.remove();
    await found[0]!.remove();
    expect([...server.uploads.values()].map(({ key }) => key)).toEqual(["other/packs/aa/two"]);
  });
  it("says which is missing, the bucket or the object", async () => {
    await expect(bucket({ bucket: "nowhere" }).read("points/a", 0, 1)).rejects.toMatchObject({
      code: "depot.no-bucket",
    });
    await expect(bucket().read("points/a", 0, 1)).rejects.toMatchObject({ code: "not-found" });
  });
  it("keeps its locks when it starts anew", async () => {
    const options = { folder: freshFolder("bucket"), keys: { "deep-keep": { secret: "harbour" } } };
    const before = new S3Server(options);
    const here = bucket({ endpoint: await before.listen() });
    await here.put("points/a", [Buffer.from("x")], new Date(Date.now() + 86_400_000));
    await here.put("points/b", [Buffer.from("y")]);
    await before.close();
    const later = new S3Server(options);
    const there = bucket({ endpoint: await later.listen() });
    await expect(there.remove("points/a")).rejects.toMatchObject({ code: "depot.not-allowed" });
    await there.remove("points/b");
    expect(await listed(there, "points/")).toEqual(["points/a"]);
    await later.close();
  });

  it.each([
    ["a wrong secret", {}, "wrong", "depot.signin-refused"],
    ["an unknown key", { accessKeyId: "nobody" }, "harbour", "depot.signin-refused"],
    ["another region", { region: "south-sea" }, "harbour", "depot.other-region"],
    ["a bucket that is not there", { bucket: "elsewhere" }, "harbour", "depot.no-bucket"],
    ["a key that may not write", { accessKeyId: "reader" }, "r", "depot.not-allowed"],
    ["a server that is not there", { endpoint: "http://127.0.0.1:2" }, "harbour", "depot.not-reached"],
  ])("says what is wrong with %s", async (_what, change, secret, code) => {
    await expect(bucket(change, secret).put("points/a", [Buffer.from("x")])).rejects.toMatchObject({ code });
  });

  it("says in which region the bucket is, where the server says it", async () => {
    const put = bucket({ region: "south-harbour" }).put("points/a", [Buffer.from("x")]);
    await expect(put).rejects.toThrow(/in another region: its server says \S+-harbour$/);
  });

  it("says when its credentials may write but not read", async () => {
    const place = bucket({ accessKeyId: "writer" }, "w");
    await place.put("points/a", [Buffer.from("x")]);
    await expect(place.read("points/a", 0, 1)).rejects.toMatchObject({ code: "depot.not-allowed" });
  });

  it("says when the clock difference is too large", async () => {
    const late = new S3Server({ now: () => new Date(Date.now() + 3_600_000) });
    const there = await late.listen();
    await expect(bucket({ endpoint: there }).put("points/a", [Buffer.from("x")])).rejects.toMatchObject({
      code: "depot.clock-wrong",
    });
    await late.close();
  });

  it("says when it is full, and leaves no part behind", async () => {
    server.faults.capacity = 10 * 1024 * 1024;
    await expect(bucket().put("points/a", [Buffer.alloc(30 * 1024 * 1024)])).rejects.toMatchObject({
      code: "depot.full",
    });
    expect([server.objects.size, server.uploads.size]).toEqual([0, 0]);
  });

  it("tries again when the server is busy, or cuts the connection", async () => {
    const content = randomBytes(9 * 1024 * 1024);
    server.faults.busy = 2;
    await bucket().put("points/a", [content]);
    server.faults.cut = 1;
    expect((await bucket().read("points/a", 0, content.length)).equals(content)).toBe(true);
    server.faults.busy = 99;
    await expect(bucket().size("points/a")).rejects.toMatchObject({ code: "depot.not-reached" });
  });
});
