import { randomBytes } from "node:crypto";
import { afterAll, beforeAll, describe, expect, it } from "vitest";
import { type ForeignBucket, startForeignBucket } from "../../../tests/foreign-bucket";
import { S3Bucket } from "./s3-bucket";

/** Our client against a server of the S3 protocol that nobody of us wrote. It knows neither locks nor conditions, and does not look at signatures of version 4. */
let foreign: ForeignBucket;
beforeAll(async () => {
  foreign = await startForeignBucket("keep");
});
afterAll(() => foreign?.stop());
const bucket = (change: object = {}) => new S3Bucket({ ...foreign.place, ...change }, foreign.secret);
const listed = async (prefix: string) => {
  const names: string[] = [];
  for await (const name of bucket().list(prefix)) names.push(name);
  return names.sort();
};

describe("a bucket of a foreign server", () => {
  it("gives back what was put, small and in parts, whole and in ranges", async () => {
    for (const size of [0, 5, 100_000, 20 * 1024 * 1024 + 7]) {
      const content = randomBytes(size);
      const name = `packs/ab/p${size}`;
      expect(await bucket().put(name, [content.subarray(0, 3), content.subarray(3)])).toBe(size);
      expect(await bucket().size(name)).toBe(size);
      expect((await bucket().read(name, 0, size)).equals(content)).toBe(true);
      if (size > 10)
        expect((await bucket().read(name, size - 7, 50)).equals(content.subarray(-7))).toBe(true);
    }
  });
  it("lists below a prefix, and removes", async () => {
    const names = Array.from({ length: 300 }, (_, i) => `many/${String(i % 16)}/n${i}`);
    for (let at = 0; at < names.length; at += 50)
      await Promise.all(names.slice(at, at + 50).map((name) => bucket().put(name, [Buffer.from("x")])));
    expect(await listed("many/")).toEqual([...names].sort());
    await bucket().remove(names[0]!);
    await bucket().remove(names[0]!);
    expect(await listed("many/0/")).not.toContain(names[0]);
    await expect(bucket().size(names[0]!)).rejects.toMatchObject({ code: "not-found" });
    await expect(bucket().read(names[0]!, 0, 1)).rejects.toMatchObject({ code: "not-found" });
  });
  it("takes and gives an object by presigned addresses", async () => {
    const put = await bucket().leaveToPut("packs/direct");
    expect((await fetch(put.url, { method: "PUT", headers: put.headers, body: "direct" })).status).toBe(200);
    const read = await bucket().leaveToRead("packs/direct");
    expect(await (await fetch(read.url)).text()).toBe("direct");
  });
  it("says that another bucket does not exist", async () => {
    await expect(bucket({ bucket: "nowhere" }).read("packs/ab/p5", 0, 5)).rejects.toMatchObject({
      code: "depot.no-bucket",
    });
  });
  it("does not lock, and this is noticed although the server says nothing", async () => {
    expect(await bucket().lockSupport()).toMatchObject({ state: "missing" });
    await expect(
      bucket().put("points/locked", [Buffer.from("x")], new Date(Date.now() + 86_400_000)),
    ).rejects.toMatchObject({ code: "depot.lock-refused" });
    expect(await listed("points/")).toEqual([]);
  });
  it("removes uploads in parts that broke off, as far as it lists them", async () => {
    const broken = (async function* () {
      yield Buffer.alloc(9 * 1024 * 1024);
      throw new Error("cut");
    })();
    await expect(bucket().put("packs/cut", broken)).rejects.toThrow("cut");
    const left = [];
    for await (const one of bucket().listUnfinished("packs/")) left.push(one.name);
    expect(left).toEqual([]);
    expect(await listed("packs/cut")).toEqual([]);
  });
});
