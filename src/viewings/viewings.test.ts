import fc from "fast-check";
import { describe, expect, it } from "vitest";
import { byteString, showBytes } from "@/store/tree/tree";
import { readAsked, responseOf, xmlText } from "./multistatus";
import { hrefOf, pathOf } from "./paths";
import { rangeOf } from "./ranges";

describe("an address within a viewing", () => {
  const name = fc
    .array(fc.integer({ min: 1, max: 255 }), { minLength: 1, maxLength: 20 })
    .map((bytes) => Buffer.from(bytes).toString("latin1"))
    .filter((text) => !text.includes("/") && text !== "." && text !== "..");
  it("carries names of any bytes there and back", () => {
    fc.assert(
      fc.property(fc.array(name, { maxLength: 4 }), (names) => {
        const path = `/${names.join("/")}`;
        expect(hrefOf(path)).toMatch(/^[A-Za-z0-9._~%/-]*$/);
        const utf8 = Buffer.from(path, "latin1").toString("utf8");
        // what is no UTF-8 is written as it is shown
        const shown = names.map((one) => byteString(showBytes(one))).join("/");
        const isUtf8 = byteString(utf8) === path;
        expect(pathOf(hrefOf(path))).toBe(isUtf8 ? path : `/${shown}`);
        expect(() => decodeURIComponent(hrefOf(path))).not.toThrow();
      }),
    );
  });
  it.each(["/a/../b", "/a/%2e%2E/b", "/./a", "/a%2Fb", "/a%00b", "/%zz", "/%4", "/%"])(
    "names nothing with %s in it",
    (href) => expect(pathOf(href)).toBeNull(),
  );
  it("never leaves the folder, whatever is typed", () => {
    fc.assert(
      fc.property(fc.string({ maxLength: 60 }), (text) => {
        const path = pathOf(text);
        if (path === null) return;
        expect(path.startsWith("/")).toBe(true);
        expect(path.split("/").some((part) => part === ".." || part === "." || part.includes("\0"))).toBe(
          false,
        );
      }),
    );
  });
});

describe("a part of a file", () => {
  it.each([
    ["bytes=0-9", { from: 0, to: 10 }],
    ["bytes=90-", { from: 90, to: 100 }],
    ["bytes=-5", { from: 95, to: 100 }],
    ["bytes=-500", { from: 0, to: 100 }],
    ["bytes=99-200", { from: 99, to: 100 }],
    ["bytes=100-", "none"],
    ["bytes=-0", "none"],
    ["bytes=9-5", null],
    ["bytes=0-1,5-6", null],
    ["items=0-1", null],
    ["bytes=-", null],
    [undefined, null],
  ] as const)("%s of 100 bytes", (header, range) => expect(rangeOf(header, 100)).toEqual(range));
});

describe("what a PROPFIND asks for", () => {
  it("is all where nothing is said", () => {
    expect(readAsked("")).toEqual({ kind: "all" });
    expect(readAsked(`<propfind xmlns="DAV:"><allprop/></propfind>`)).toEqual({ kind: "all" });
    expect(readAsked(`<D:propfind xmlns:D="DAV:"><D:propname/></D:propfind>`)).toEqual({ kind: "names" });
  });
  it("are properties by namespace and name, whatever the prefix", () => {
    const body = `<?xml version="1.0"?><a:propfind xmlns:a="DAV:" xmlns:z="urn:z">
      <a:prop><a:getetag/><z:colour/><size xmlns="urn:s"/></a:prop></a:propfind>`;
    expect(readAsked(body)).toEqual({
      kind: "some",
      properties: [
        { namespace: "DAV:", name: "getetag" },
        { namespace: "urn:z", name: "colour" },
        { namespace: "urn:s", name: "size" },
      ],
    });
    const answer = responseOf("/viewings/x/", { getetag: "&quot;1&quot;" }, readAsked(body));
    expect(answer).toContain("<d:getetag>&quot;1&quot;</d:getetag></d:prop><d:status>HTTP/1.1 200 OK");
    expect(answer).toContain(`<x:colour xmlns:x="urn:z"></x:colour>`);
    expect(answer).toContain("404 Not Found");
  });
  it.each([
    "no xml",
    "<propfind/>",
    `<d:other xmlns:d="DAV:"/>`,
    `<d:propfind xmlns:d="DAV:"></d:propfind>`,
    `<d:propfind xmlns:d="DAV:"><d:prop></d:propfind>`,
  ])("is refused where it is none: %s", (body) => expect(() => readAsked(body)).toThrow());
  it("expands nothing that a document declares", () => {
    const bomb = `<!DOCTYPE d [<!ENTITY a "aaaaaaaa"><!ENTITY b "&a;&a;&a;">]><d:propfind xmlns:d="DAV:"><d:prop><d:b xmlns:e="&b;"/></d:prop></d:propfind>`;
    let asked: unknown = null;
    try {
      asked = readAsked(bomb);
    } catch {
      // to refuse it is as well
    }
    expect(JSON.stringify(asked)).not.toContain("aaaaaaaa");
  });
});

it("text for XML holds what XML can hold", () => {
  expect(xmlText('a<b>&"c"\u0001\u000b')).toBe("a&lt;b&gt;&amp;&quot;c&quot;\ufffd\ufffd");
});
