import { describe, expect, it } from "vitest";
import { foldersOn, homesInPasswd } from "./known-places";

const home = (path: string, userDirs: string | null = null) => ({ path, userDirs });

describe("places that every machine has elsewhere", () => {
  it("are found by a home's own list, and by their usual names where it has none", () => {
    const dirs = '# by xdg-user-dirs\nXDG_DESKTOP_DIR="$HOME/Bureau"\nXDG_DOCUMENTS_DIR="/srv/papers/ada/"\n';
    expect(
      foldersOn(["@documents", "/etc", "@desktop"], [home("/home/ada", dirs), home("/home/till")]),
    ).toEqual(["/srv/papers/ada", "/home/till/Documents", "/etc", "/home/ada/Bureau", "/home/till/Desktop"]);
    expect(foldersOn(["@homes"], [home("/home/ada", dirs)])).toEqual(["/home/ada"]);
  });
  it("are never a home itself, and never lead out by dots", () => {
    const dirs = 'XDG_DESKTOP_DIR="$HOME/"\nXDG_DOCUMENTS_DIR="$HOME/../other"\n';
    expect(foldersOn(["@desktop", "@documents"], [home("/home/ada", dirs)])).toEqual([
      "/home/ada/Desktop",
      "/home/ada/Documents",
    ]);
  });
  it("are those of people, not of services", () => {
    const passwd = [
      "root:x:0:0:root:/root:/bin/bash",
      "daemon:x:1:1:daemon:/usr/sbin:/usr/sbin/nologin",
      "ada:x:1000:1000:Ada:/home/ada/:/bin/bash",
      "till:x:1001:1001::/home/till:/bin/sh",
      "odd:x:1002:1002::/home/../etc:/bin/sh",
      "none:x:1003:1003::/:/bin/sh",
      "nobody:x:65534:65534:nobody:/nonexistent:/usr/sbin/nologin",
      "",
    ].join("\n");
    expect(homesInPasswd(passwd)).toEqual(["/root", "/home/ada", "/home/till"]);
  });
});
