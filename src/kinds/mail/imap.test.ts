import { afterAll, beforeAll, describe, expect, it } from "vitest";
import type { Code } from "@/core/codes";
import { Cyrus, whyNoCyrus } from "../../../tests/cyrus";
import { snap, TestDepot } from "../../../tests/depot";
import { Dovecot, whyNoDovecot } from "../../../tests/dovecot";
import { type ImapAuth, ImapClient } from "./imap";
import { MailboxReader } from "./reader";
import { restoreMail } from "./restore";

const patience = { attempts: 3, firstPauseMs: 20, silenceMs: 10_000 };
const message = (n: number, more = ""): Buffer =>
  Buffer.from(
    `From: repairs@pendlewick.example\r\nTo: lettings@pendlewick.example\r\nSubject: Letter ${n}\r\nMessage-ID: <${n}@pendlewick.example>\r\n\r\nline of letter ${n}${more}\r\n`,
    "utf8",
  );
const received = (n: number) => `01-Nov-2026 08:${String(n).padStart(2, "0")}:00 +0000`;

/** A server as the tests need it: filled and looked at by a line of IMAP that is none of ours. */
interface Peer {
  readonly client: (change?: Partial<ImapAuth>) => ImapClient;
  readonly line: () => ReturnType<Dovecot["imap"]>;
  readonly account: string;
}

const peers: Record<string, { why: string | null; start: () => Promise<Peer & { stop(): Promise<void> }> }> =
  {
    "Dovecot as a user": {
      why: whyNoDovecot(),
      start: async () => {
        const server = await Dovecot.start({ lettings: "sesame" }, { user: "keep", password: "master" });
        const auth: ImapAuth = { kind: "password", user: "lettings", password: "sesame" };
        return peerOf(server, server.address(), auth, () => server.stop());
      },
    },
    "Dovecot as a master user": {
      why: whyNoDovecot(),
      start: async () => {
        const server = await Dovecot.start({ lettings: "sesame" }, { user: "keep", password: "master" });
        const auth: ImapAuth = { kind: "master", user: "keep", password: "master", separator: "*" };
        return peerOf(server, server.address(), auth, () => server.stop());
      },
    },
    "Cyrus by proxy authorisation": {
      why: whyNoCyrus(),
      start: async () => {
        const server = await Cyrus.start({ lettings: "sesame" });
        const auth: ImapAuth = { kind: "proxy", user: "cyrus", password: "harbour-master" };
        return peerOf(server, `imap://127.0.0.1:${server.imapPort}`, auth, () => server.stop());
      },
    },
  };
const peerOf = (
  server: Pick<Dovecot, "imap">,
  address: string,
  auth: ImapAuth,
  stop: () => Promise<void>,
) => ({
  client: (change: Partial<ImapAuth> = {}) =>
    new ImapClient({ address, auth: { ...auth, ...change } as ImapAuth, mailboxes: ["lettings"] }, patience),
  line: () => server.imap("lettings", "sesame"),
  account: "lettings",
  stop,
});

/** What is in the mailbox, as the server shows it: of each message its folder, flags, time and content. */
async function shownBy(peer: Peer): Promise<string[]> {
  const line = await peer.line();
  const folders = [...(await line.do('LIST "" "*"')).matchAll(/^\* LIST \([^)]*\) "." "?([^"\r\n]+)"?/gm)];
  const shown = [];
  for (const [, folder] of folders) {
    const [, count] = /\* (\d+) EXISTS/.exec(await line.do(`EXAMINE "${folder}"`))!;
    if (count === "0") continue;
    const text = await line.do("FETCH 1:* (FLAGS INTERNALDATE BODY.PEEK[])");
    for (const part of text.split(/^\* \d+ FETCH /m).slice(1)) {
      const flags = /FLAGS \(([^)]*)\)/
        .exec(part)![1]!
        .replace("\\Recent", "")
        .trim()
        .split(" ")
        .sort()
        .join(" ");
      const date = /INTERNALDATE "([^"]+)"/.exec(part)![1]!;
      const [mark, size] = /\{(\d+)\}\r\n/.exec(part)!;
      const from = part.indexOf(mark) + mark.length;
      shown.push(`${folder} [${flags.trim()}] ${date} ${part.slice(from, from + Number(size))}`);
    }
  }
  await line.end();
  return shown.sort();
}

/** Stores a mailbox; how many contents were fetched for it. */
async function store(peer: Peer, depot: TestDepot, previous: Awaited<ReturnType<typeof snap>> | null) {
  const client = peer.client();
  let fetched = 0;
  const content = client.content.bind(client);
  client.content = (...asked) => {
    fetched += 1;
    return content(...asked);
  };
  const reader = await MailboxReader.open(client, peer.account);
  const made = await snap(depot, "", { reader, previous: previous?.previous ?? null });
  await client.end();
  return { ...made, fetched };
}

async function restore(
  peer: Peer,
  depot: TestDepot,
  root: Uint8Array,
  path = "/",
  folder: string | null = null,
) {
  const lines: { code: Code | null; path: string | null; message: string }[] = [];
  const client = peer.client();
  const result = await restoreMail(
    client,
    peer.account,
    {
      items: [{ store: depot.reader(), root, path, momentLabel: "" }],
      folder,
      expect: () => {},
      log: (_level, code, at, text) => void lines.push({ code, path: at, message: text }),
      progress: { items: 0, bytes: 0 },
      signal: new AbortController().signal,
    },
    { pauseMs: 1 },
  ).finally(() => client.end());
  return { ...result, lines };
}

async function removeAll(peer: Peer, folder: string): Promise<void> {
  const line = await peer.line();
  await line.do(`SELECT "${folder}"`);
  await line.do("STORE 1:* +FLAGS (\\Deleted)");
  await line.do("EXPUNGE");
  await line.end();
}

describe.each(Object.entries(peers))("a mailbox of %s", (name, { why, start }) => {
  if (why) console.warn(`Skipped: mail against ${name}. ${why}`);
  describe.skipIf(why !== null)("", () => {
    let peer: Awaited<ReturnType<typeof start>>;
    const depot = new TestDepot();
    let first: Awaited<ReturnType<typeof store>>;
    let before: string[];

    beforeAll(async () => {
      peer = await start();
      const line = await peer.line();
      await line.do('CREATE "Repairs"');
      // modified UTF-7: Kai ☂ Ärger
      await line.do('CREATE "Repairs/Kai &JgI- &AMQ-rger"');
      for (let n = 0; n < 20; n += 1)
        await line.append({
          folder: n % 4 ? "INBOX" : "Repairs",
          bytes: message(n),
          received: received(n),
          flags: n % 3 ? "\\Seen \\Flagged" : "invoice $Forwarded",
        });
      await line.append({
        folder: "Repairs/Kai &JgI- &AMQ-rger",
        bytes: message(20, "\u00e4".repeat(40_000)),
        received: received(20),
        flags: "\\Answered",
      });
      // twice the same in one folder, and one that somebody removed without expunging
      for (let twice = 0; twice < 2; twice += 1)
        await line.append({ folder: "INBOX", bytes: message(21), received: received(21) });
      await line.append({ folder: "INBOX", bytes: message(22), received: received(22), flags: "\\Deleted" });
      await line.end();
    }, 60_000);
    afterAll(() => peer?.stop());

    it("is found, signed in to, and refused with a wrong secret", async () => {
      const client = peer.client();
      await client.find();
      await client.signIn();
      expect(await client.accounts()).toEqual([{ id: "lettings", name: "lettings" }]);
      await client.end();
      const wrong = peer.client({ password: "wrong" });
      await expect(wrong.signIn()).rejects.toMatchObject({ code: "source.signin-refused" });
    });

    it("is stored with its folders, and an unchanged one fetches nothing", async () => {
      first = await store(peer, depot, null);
      expect(first.notes).toEqual([]);
      expect(first.counts.files).toBe(23);
      expect(first.fetched).toBe(23);
      const second = await store(peer, depot, first);
      expect(second.counts.files).toBe(23);
      expect(second.fetched).toBe(0);
    });

    it("is read again where it changed", async () => {
      const line = await peer.line();
      await line.do('SELECT "Repairs"');
      await line.do("STORE 1 +FLAGS (\\Seen)");
      await line.append({ folder: "Repairs", bytes: message(30), received: received(30) });
      await line.end();
      const next = await store(peer, depot, first);
      expect(next.counts.files).toBe(24);
      expect(next.fetched).toBe(2);
      first = next;
    });

    it("fetches nothing twice when the server counts its messages anew", async () => {
      const line = await peer.line();
      await line.do('RENAME "Repairs" "Moved"');
      await line.do('CREATE "Repairs"');
      await line.do('SELECT "Moved"');
      await line.do('COPY 1:* "Repairs"');
      await line.do("CLOSE");
      await line.do('DELETE "Moved/Kai &JgI- &AMQ-rger"');
      await line.do('DELETE "Moved"');
      await line.end();
      const again = await store(peer, depot, first);
      expect(again.counts.files).toBe(23);
      expect(again.fetched).toBe(0);
    });

    it("is emptied and comes back byte for byte with flags, folders and times, and nothing twice", async () => {
      const line = await peer.line();
      await line.do('CREATE "Repairs/Kai &JgI- &AMQ-rger"');
      await line.append({
        folder: "Repairs/Kai &JgI- &AMQ-rger",
        bytes: message(20, "\u00e4".repeat(40_000)),
        received: received(20),
        flags: "\\Answered",
      });
      await line.do('SELECT "INBOX"');
      await line.do("EXPUNGE");
      await line.end();
      const whole = await store(peer, depot, first);
      before = await shownBy(peer);
      expect(before.length).toBe(24);
      for (const folder of ["INBOX", "Repairs", "Repairs/Kai &JgI- &AMQ-rger"]) await removeAll(peer, folder);
      const emptied = await peer.line();
      await emptied.do('DELETE "Repairs/Kai &JgI- &AMQ-rger"');
      await emptied.do('DELETE "Repairs"');
      await emptied.end();
      expect(await shownBy(peer)).toEqual([]);
      const back = await restore(peer, depot, whole.root);
      // the second of two that are the same in everything is not restored
      expect(back).toMatchObject({ files: 23, present: 1, cautions: 0, folders: 2 });
      const after = await shownBy(peer);
      expect(after).toEqual([...new Set(before)].sort());
      expect(await restore(peer, depot, whole.root)).toMatchObject({ files: 0, present: 24, folders: 0 });
      expect(await shownBy(peer)).toEqual(after);
      // what came back is what was there: the next run fetches none of it
      const next = await store(peer, depot, whole);
      expect(next.fetched).toBe(0);
    });

    it("takes a folder into another one, under names that its server can have", async () => {
      await restore(peer, depot, first.root, "/Repairs", "Restored here/2026");
      const line = await peer.line();
      const listed = await line.do('LIST "" "*"');
      await line.end();
      expect(listed).toContain('"Restored here/2026/Repairs"');
      expect(listed).toContain("Restored here/2026/Repairs/Kai &JgI- &AMQ-rger");
    });
  });
});

describe.skipIf(whyNoDovecot() !== null)("a full mailbox", () => {
  it("is named as the reason", async () => {
    const roomy = await Dovecot.start({ lettings: "sesame" }, { user: "keep", password: "master" });
    const tight = await Dovecot.start({ lettings: "sesame" }, { user: "keep", password: "master" }, 20);
    const auth: ImapAuth = { kind: "password", user: "lettings", password: "sesame" };
    try {
      const [from, to] = [roomy, tight].map((one) => peerOf(one, one.address(), auth, async () => {}));
      const line = await from!.line();
      for (let n = 0; n < 5; n += 1)
        await line.append({ folder: "INBOX", bytes: message(n, "x".repeat(8000)), received: received(n) });
      await line.end();
      const depot = new TestDepot();
      const { root } = await store(from!, depot, null);
      await expect(restore(to!, depot, root)).rejects.toMatchObject({ code: "restore.mailbox-full" });
      expect((await shownBy(to!)).length).toBe(2);
    } finally {
      await roomy.stop();
      await tight.stop();
    }
  });
});

describe("a server that is none", () => {
  it("is not reached, and says where", async () => {
    const client = new ImapClient(
      { address: "imap://127.0.0.1:2", auth: { kind: "password", user: "a", password: "b" } },
      patience,
    );
    await expect(client.find()).rejects.toMatchObject({
      code: "source.not-reached",
      message: expect.stringContaining("127.0.0.1:2: nothing listens on that port"),
    });
    await expect(client.signIn()).rejects.toMatchObject({ code: "source.not-reached" });
  });
});
