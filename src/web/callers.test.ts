import fc from "fast-check";
import { describe, expect, it } from "vitest";
import { blocksOf, isIn } from "@/store/places/reach";
import { settleCaller } from "./callers";

describe("blocks of addresses", () => {
  it("hold what they name, in either version, and in either dress", () => {
    const blocks = blocksOf("127.0.0.0/8, 2001:db8::/32\n192.0.2.7");
    expect(
      ["127.1.2.3", "::ffff:127.0.0.1", "2001:db8:1::9", "192.0.2.7"].map((one) => isIn(blocks, one)),
    ).toEqual([true, true, true, true]);
    expect(
      ["128.0.0.1", "192.0.2.8", "2001:db9::1", "somewhere", ""].map((one) => isIn(blocks, one)),
    ).toEqual([false, false, false, false, false]);
    expect(isIn(blocksOf(""), "127.0.0.1")).toBe(false);
  });
  it("say what is none", () => {
    for (const wrong of ["gate", "10.0.0.0/33", "10.0.0.0/", "10.0.0.0/x", "::1/129", "10.0.0"])
      expect(() => blocksOf(`127.0.0.1 ${wrong}`)).toThrow(wrong);
  });
});

describe("who called", () => {
  const proxies = blocksOf("127.0.0.1, 10.0.0.0/8");
  const settled = (headers: Record<string, string>, peer: string, encrypted = false) => {
    const all = { host: "keep.example", ...headers };
    settleCaller(all, { peer, encrypted }, proxies);
    return all as Record<string, string | undefined>;
  };

  it("is whoever is at the other end, whatever that says of itself", () => {
    const headers = settled(
      {
        "x-forwarded-for": "10.0.0.1",
        "x-forwarded-proto": "https",
        "x-forwarded-host": "elsewhere.example",
        forwarded: "for=10.0.0.1",
        "x-middleware-subrequest": "proxy",
      },
      "203.0.113.9",
    );
    expect(headers).toEqual({
      host: "keep.example",
      "x-forwarded-for": "203.0.113.9",
      "x-forwarded-proto": "http",
      "x-forwarded-host": "keep.example",
    });
    expect(settled({}, "203.0.113.9", true)["x-forwarded-proto"]).toBe("https");
  });

  it("is told by a proxy that is trusted, over several of them", () => {
    const told = {
      "x-forwarded-for": "198.51.100.4, 203.0.113.9, 10.3.3.3",
      "x-forwarded-proto": "https",
      "x-forwarded-host": "desk.example",
    };
    expect(settled(told, "::ffff:127.0.0.1")).toMatchObject({
      "x-forwarded-for": "203.0.113.9",
      "x-forwarded-proto": "https",
      "x-forwarded-host": "desk.example",
    });
    // a proxy that says nothing is the caller itself
    expect(settled({}, "127.0.0.1")["x-forwarded-for"]).toBe("127.0.0.1");
    expect(settled({ "x-forwarded-for": "all of them" }, "127.0.0.1")["x-forwarded-for"]).toBe("127.0.0.1");
  });

  it("can never choose its own address behind trusted proxies", () => {
    const address = fc.ipV4();
    fc.assert(
      fc.property(fc.array(address, { maxLength: 4 }), address, (forged, real) => {
        fc.pre(!isIn(proxies, real));
        const headers = settled({ "x-forwarded-for": [...forged, real].join(", ") }, "10.9.9.9");
        expect(headers["x-forwarded-for"]).toBe(real);
      }),
    );
  });
});
