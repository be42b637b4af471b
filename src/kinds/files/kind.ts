import type { Kind } from "../kind";

export const FILES = {
  sources: "files of machines",
  item: "file",
  items: "files",
  unit: { one: "machine", many: "machines" },
  shared: true,
  nameElsewhere: null,
  reachedBy: "agent",
  connection: {
    name: "Machine",
    requires: "Requires: Linux and a connection to this console. The agent needs root to read every file.",
  },
} as const satisfies Kind;
