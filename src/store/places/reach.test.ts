import { createServer } from "node:http";
import type { AddressInfo } from "node:net";
import { afterEach, describe, expect, it } from "vitest";
import { allowedAddress, fetchAllowed, forbid, lookupAllowed, refuseForbidden } from "./reach";

afterEach(() => forbid(undefined));
const looked = (host: string, all: boolean) =>
  new Promise<unknown>((resolve, reject) =>
    lookupAllowed(host, { all }, (error, address) => (error ? reject(error) : resolve(address))),
  );

describe("places that may be reached", () => {
  it("are all but those one hop away without a name, unless the operator says otherwise", async () => {
    for (const host of [
      "169.254.169.254",
      "[fe80::1]",
      "0.0.0.0",
      "[::]",
      "224.0.0.1",
      "[::ffff:169.254.1.1]",
      "[::ffff:a9fe:a9fe]",
      "[::169.254.169.254]",
      "[64:ff9b::a9fe:a9fe]",
      "[64:ff9b:1::a9fe:a9fe]",
      "[2002:a9fe:a9fe::1]",
      "[fd00:ec2::254]",
      "100.100.100.200",
    ])
      expect(() => refuseForbidden(host)).toThrow("is not to be reached from here");
    for (const host of ["127.0.0.1", "[::1]", "192.0.2.1", "store.example"]) refuseForbidden(host);
    forbid("127.0.0.0/8, ::1, 192.0.2.0/24");
    for (const host of ["127.9.9.9", "[::1]", "192.0.2.77"])
      expect(() => refuseForbidden(host)).toThrow("not to be reached");
    refuseForbidden("169.254.169.254");
    forbid("");
    refuseForbidden("0.0.0.0");
  });

  it("are weighed by where a name leads", async () => {
    expect(await looked("localhost", false)).toMatch(/^(127\.0\.0\.1|::1)$/);
    expect(await looked("localhost", true)).toEqual(
      expect.arrayContaining([expect.objectContaining({ address: expect.any(String) })]),
    );
    expect(await allowedAddress("127.0.0.1")).toBe("127.0.0.1");
    forbid("127.0.0.0/8, ::1");
    await expect(looked("localhost", false)).rejects.toMatchObject({ code: "address.forbidden" });
    await expect(allowedAddress("localhost")).rejects.toMatchObject({ code: "address.forbidden" });
    await expect(looked("no such name.invalid", false)).rejects.toThrow();
  });

  it("are fetched from, and others are not even asked", async () => {
    let asked = 0;
    const server = createServer((_, response) => {
      asked += 1;
      response.end("here");
    });
    await new Promise<void>((resolve) => server.listen(0, "127.0.0.1", resolve));
    const { port } = server.address() as AddressInfo;
    expect(await (await fetchAllowed(`http://127.0.0.1:${port}/`)).text()).toBe("here");
    forbid("127.0.0.0/8, ::1");
    for (const host of ["127.0.0.1", "localhost"])
      await expect(fetchAllowed(`http://${host}:${port}/`)).rejects.toMatchObject({
        code: "address.forbidden",
      });
    expect(asked).toBe(1);
    server.close();
    server.closeAllConnections();
  });
});
