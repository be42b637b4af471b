import { describe, expect, it } from "vitest";
import { compileSelection, outermostFolders, selectionSentence } from "./selection";

const selector = (include: string[], exclude: string[]) =>
  compileSelection({ folders: ["/"], include, exclude });

describe("what is taken", () => {
  it("takes everything without patterns, dot files too", () => {
    expect(selector([], []).takesFile("/home/ada/.profile")).toBe(true);
  });
  it("holds a pattern without a slash against the name", () => {
    const wanted = selector(["*.odt", "*.{ods,pdf}"], ["~*"]);
    expect(wanted.takesFile("/home/ada/a.odt")).toBe(true);
    expect(wanted.takesFile("/home/ada/b.pdf")).toBe(true);
    expect(wanted.takesFile("/home/ada/c.mp4")).toBe(false);
    expect(wanted.takesFile("/home/ada/~a.odt")).toBe(false);
  });
  it("leaves a folder out with all below it", () => {
    const wanted = selector([], ["node_modules", "/var/cache", "tmp/*.bin"]);
    expect(wanted.takesFolder("/srv/site/node_modules")).toBe(false);
    expect(wanted.takesFolder("/var/cache")).toBe(false);
    expect(wanted.takesFolder("/srv/var/cache")).toBe(true);
    expect(wanted.takesFile("/srv/tmp/x.bin")).toBe(false);
  });
  it("leaves out what is too large, too old, or rubbish", () => {
    const now = new Date("2026-11-24T12:00:00Z");
    const wanted = compileSelection(
      { folders: ["/"], include: [], exclude: [], rubbish: true, largestBytes: 1000, changedWithinDays: 30 },
      now,
    );
    const daysAgo = (days: number) => BigInt(now.getTime() - days * 86_400_000) * 1_000_000n;
    expect(wanted.takesFile("/home/a.odt", 1000, daysAgo(29))).toBe(true);
    expect(wanted.takesFile("/home/a.odt", 1001, daysAgo(1))).toBe(false);
    expect(wanted.takesFile("/home/a.odt", 10, daysAgo(31))).toBe(false);
    // the limits themselves are inside
    expect(wanted.takesFile("/home/a.odt", 10, daysAgo(30))).toBe(true);
    expect(wanted.takesFile("/home/a.odt", 10, daysAgo(30) - 1n)).toBe(false);
    expect(wanted.takesFolder("/home/ada/.cache")).toBe(false);
    expect(wanted.takesFolder("/home/ada/.local/share/Trash")).toBe(false);
    expect(wanted.takesFolder("/proc")).toBe(false);
    expect(wanted.takesFolder("/srv/proc")).toBe(true);
    expect(wanted.takesFile("/srv/Thumbs.db", 1, daysAgo(0))).toBe(false);
  });
  it("counts case", () => expect(selector(["*.ODT"], []).takesFile("/a.odt")).toBe(false));
});

describe("folders inside folders", () => {
  it("reads nothing twice", () => {
    expect(outermostFolders(["/home/ada", "/home", "/srv/", "/home", "/homework"])).toEqual([
      "/home",
      "/homework",
      "/srv",
    ]);
    expect(outermostFolders(["/srv", "/"])).toEqual(["/"]);
  });
});

it("reads as a sentence", () => {
  expect(selectionSentence({ folders: ["/home", "/srv"], include: [], exclude: ["*.mp4"] })).toBe(
    "Everything in /home, /srv, without *.mp4",
  );
});
