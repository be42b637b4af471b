import type { Kind } from "../kind";

export const MAIL = {
  sources: "mailboxes",
  item: "item",
  items: "items",
  unit: { one: "mailbox", many: "mailboxes" },
  shared: true,
  nameElsewhere: null,
  reachedBy: "network",
  connection: {
    name: "Mail tenant",
    requires:
      "Requires: the address of a JMAP or IMAP server, and an application, user or token that may read the mailboxes, and write to them for restores.",
  },
} as const satisfies Kind;
