import type { Kind } from "../kind";

export const DATABASE = {
  sources: "databases",
  item: "file",
  items: "files",
  restored: { one: "database", many: "databases" },
  unit: { one: "database", many: "databases" },
  tables: true,
  shared: false,
  nameElsewhere: "Enter a name for the new database.",
  reachedBy: "network",
  connection: {
    name: "Database server",
    requires:
      "Requires: the address of a PostgreSQL server, and a user that may read the databases, and create databases for restores.",
  },
} as const satisfies Kind;
