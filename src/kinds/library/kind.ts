import type { Kind } from "../kind";

export const LIBRARY = {
  sources: "libraries",
  item: "file",
  items: "files",
  unit: { one: "library", many: "libraries" },
  shared: true,
  clashes: true,
  nameElsewhere: null,
  reachedBy: "network",
  connection: {
    name: "File library",
    requires:
      "Requires: the address of a WebDAV server, and a user that may read the libraries, and write to them for restores.",
  },
} as const satisfies Kind;
