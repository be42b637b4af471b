import { describe, expect, it } from "vitest";
import { CodedError } from "@/core/codes";
import { snap, TestDepot } from "../../../tests/depot";
import type { MailClient, MailItem } from "./client";
import { MailboxReader } from "./reader";

/** A mailbox of so many messages in two folders, which tells how it is asked for them. */
function mailbox(count: number) {
  const items: MailItem[] = Array.from({ length: count }, (_, n) => ({
    id: `m${String(n).padStart(3, "0")}`,
    blobId: `m${n}`,
    mailboxIds: { [n % 5 ? "inbox" : "sent"]: true },
    keywords: {},
    receivedAt: new Date(Date.UTC(2026, 10, 1, 8, n)).toISOString(),
    size: 30,
    subject: `letter ${n}`,
  }));
  const asked: string[] = [];
  const broken = new Set<string>();
  let underway = 0;
  const seen = { most: 0, asked, broken, items };
  const client = {
    folders: async () => ["inbox", "sent"].map((id) => ({ id, name: id, parentId: null, role: id })),
    items: async () => items,
    content: async (_account: string, { blobId }: Pick<MailItem, "blobId">) => {
      asked.push(blobId);
      underway += 1;
      seen.most = Math.max(seen.most, underway);
      await new Promise((resolve) => setTimeout(resolve, 2));
      underway -= 1;
      if (broken.has(blobId)) throw new CodedError("file.unreadable", "the server does not give it out");
      return Buffer.from(`Subject: letter\r\n\r\n${blobId}`.padEnd(30));
    },
  } as unknown as MailClient;
  return { client, seen };
}

describe("reading a mailbox", () => {
  it("fetches the next messages while one is stored, and each of them once", async () => {
    const { client, seen } = mailbox(60);
    const depot = new TestDepot();
    const first = await snap(depot, "", { reader: await MailboxReader.open(client, "box") });
    expect(first.counts.files).toBe(60);
    expect(seen.asked.length).toBe(60);
    expect(new Set(seen.asked).size).toBe(60);
    expect(seen.most).toBe(4);
  });

  it("fetches nothing ahead where only some messages changed", async () => {
    const { client, seen } = mailbox(60);
    const depot = new TestDepot();
    const first = await snap(depot, "", { reader: await MailboxReader.open(client, "box") });
    seen.asked.length = 0;
    for (const n of [7, 8, 31]) seen.items[n] = { ...seen.items[n]!, keywords: { $flagged: true } };
    const next = await snap(depot, "", {
      reader: await MailboxReader.open(client, "box"),
      previous: first.previous,
    });
    expect(next.notes).toEqual([]);
    expect(seen.asked.toSorted()).toEqual(["m31", "m7", "m8"]);
  });

  it("tells of the message that is not given out, and of no other", async () => {
    const { client, seen } = mailbox(60);
    for (const blobId of ["m21", "m44"]) seen.broken.add(blobId);
    const made = await snap(new TestDepot(), "", { reader: await MailboxReader.open(client, "box") });
    expect(made.notes.map(({ code, path }) => [code, /letter (\d+)/.exec(path)?.[1]])).toEqual([
      ["file.unreadable", "21"],
      ["file.unreadable", "44"],
    ]);
    expect(made.counts.files).toBe(58);
  });
});
