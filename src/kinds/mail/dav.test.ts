import { afterAll, beforeAll, describe, expect, it } from "vitest";
import { type Code, CodedError } from "@/core/codes";
import { MailServer } from "@/standins/mail/server";
import { MailTenants } from "@/standins/mail/tenants";
import { walkTree } from "@/store/read/browse";
import { Cyrus, whyNoCyrus } from "../../../tests/cyrus";
import { freshFolder, snap, TestDepot } from "../../../tests/depot";
import { cardOf, eventOf, Radicale, whyNoRadicale } from "../../../tests/radicale";
import type { MailClient } from "./client";
import { DavClient } from "./dav";
import { davHead } from "./dav-entry";
import { withoutScheduling } from "./dav-restore";
import { MailboxReader } from "./reader";
import { restoreMail } from "./restore";
import { mailWhat } from "./what";

/** Calendars and contacts against servers that nobody here wrote. */
interface Peer {
  readonly name: string;
  readonly client: () => DavClient;
  /** Plain HTTP as the mailbox, past our client. */
  readonly ask: (
    method: string,
    url: string,
    body?: string,
    headers?: Record<string, string>,
  ) => Promise<Response>;
  readonly stop: () => Promise<void>;
}

const USER = "ada";
const SECRET = "sesame";
const basic = `Basic ${Buffer.from(`${USER}:${SECRET}`).toString("base64")}`;
const peerOf = (name: string, address: string, stop: () => Promise<void>, authorization = basic): Peer => ({
  name,
  client: () =>
    new DavClient(
      { address, signIn: async () => ({ authorization }) },
      { attempts: 2, firstPauseMs: 1, silenceMs: 5000 },
    ),
  ask: (method, url, body, headers = {}) =>
    fetch(url, { method, headers: { authorization, ...headers }, ...(body === undefined ? {} : { body }) }),
  stop,
});

/** A mailbox without messages: here it is about what is beside them. */
const noMail: MailClient = {
  find: async () => {},
  signIn: async () => {},
  accounts: async () => [{ id: USER, name: USER }],
  folders: async () => [],
  items: async () => [],
  content: async () => Buffer.alloc(0),
  present: async () => [],
  addFolder: async () => {
    throw new Error("no folder of the mail is wanted here");
  },
  add: async () => null,
};

async function store(
  client: DavClient,
  depot: TestDepot,
  previous: Awaited<ReturnType<typeof snap>> | null = null,
  what: object = {},
) {
  let fetched = 0;
  const content = client.content.bind(client);
  client.content = (...asked) => {
    fetched += 1;
    return content(...asked);
  };
  const reader = await MailboxReader.open(noMail, USER, mailWhat.parse(what), { client, mailbox: USER });
  const made = await snap(depot, "", { reader, previous: previous?.previous ?? null });
  const paths: string[] = [];
  for await (const { path } of walkTree(depot.reader(), made.root, "/")) paths.push(path);
  return { ...made, paths, fetched };
}

async function restore(
  client: DavClient | null,
  depot: TestDepot,
  root: Uint8Array,
  { path = "/", folder = null }: { path?: string; folder?: string | null } = {},
) {
  const lines: { code: Code | null; path: string | null; message: string }[] = [];
  const result = await restoreMail(
    noMail,
    USER,
    {
      items: [{ store: depot.reader(), root, path, momentLabel: "" }],
      folder,
      expect: () => {},
      log: (_level, code, at, text) => void lines.push({ code, path: at, message: text }),
      progress: { items: 0, bytes: 0 },
      signal: new AbortController().signal,
    },
    { dav: async () => client && { client, mailbox: USER }, pauseMs: 1 },
  );
  return { ...result, lines };
}

/** What the server has: of each item its collection, UID and title, asked for past our client. */
async function shownBy(peer: Peer): Promise<string[]> {
  const client = peer.client();
  const shown = [];
  for (const collection of await client.collections(USER)) {
    const listing = await peer.ask(
      "PROPFIND",
      collection.url,
      '<propfind xmlns="DAV:"><prop><getetag/></prop></propfind>',
      { depth: "1", "content-type": "application/xml" },
    );
    const text = await listing.text();
    for (const [, href] of text.matchAll(/<(?:\w+:)?href>([^<]+\.(?:ics|vcf))<\/(?:\w+:)?href>/g)) {
      const item = await (await peer.ask("GET", new URL(href!, collection.url).href)).text();
      const { uid, title, start } = davHead(Buffer.from(item), collection.kind);
      shown.push(`${collection.kind} ${collection.name}: ${uid} ${title} ${start}`);
    }
  }
  return shown.sort();
}
async function removeAll(peer: Peer): Promise<void> {
  for (const collection of await peer.client().collections(USER))
    for (const { url } of await peer.client().objects(USER, collection))
      expect((await peer.ask("DELETE", url)).status).toBeLessThan(300);
}

const MEETING = eventOf("m-1@lanternfold.example", "Rent\\, keys\\; and a roof", "20991201T090000Z", [
  `ORGANIZER;CN=Ada:mailto:${USER}@pendlewick.example`,
  "ATTENDEE;PARTSTAT=NEEDS-ACTION:mailto:till@pendlewick.example",
  "RRULE:FREQ=WEEKLY;COUNT=4",
]);

const peers: [string, string | null, () => Promise<Peer>][] = [
  [
    "Radicale",
    whyNoRadicale(),
    async () => {
      const server = await Radicale.start({ [USER]: SECRET });
      return peerOf("Radicale", server.address(), () => server.stop());
    },
  ],
  [
    "Cyrus",
    whyNoCyrus(),
    async () => {
      const server = await Cyrus.start({ [USER]: SECRET, till: "other" });
      return peerOf("Cyrus", server.address(), () => server.stop());
    },
  ],
];

/** The server of the demo, for an application that reads every mailbox. */
async function standIn(): Promise<Peer> {
  const world = new MailTenants(freshFolder("dav"));
  world.add({
    tenantId: "trust",
    applications: [{ clientId: "keep", secret: SECRET, expiresAt: "2099-01-01T00:00:00Z" }],
    mailboxes: [
      {
        id: "m-ada",
        address: USER,
        folders: [],
        messages: [],
        collections: [
          { id: "c", kind: "calendar", name: "Calendar", items: [] },
          { id: "b", kind: "addressbook", name: "Contacts", items: [] },
        ],
      },
    ],
  });
  const server = new MailServer(world);
  const address = await server.listen();
  const answer = await fetch(`${address}/oauth/trust/token`, {
    method: "POST",
    body: new URLSearchParams({ grant_type: "client_credentials", client_id: "keep", client_secret: SECRET }),
  });
  const { access_token: token } = (await answer.json()) as { access_token: string };
  return peerOf(
    "the stand-in",
    `${address}/dav/principals/{mailbox}/`,
    () => server.close(),
    `Bearer ${token}`,
  );
}
peers.push(["the stand-in", null, standIn]);

describe.each(peers)("calendars and contacts of %s", (_name, why, start) => {
  let peer: Peer;
  const depot = new TestDepot();
  beforeAll(async () => {
    if (!why) peer = await start();
  }, 60_000);
  afterAll(() => peer?.stop());

  it.skipIf(why)("are stored beside the mail, and come back once where they were removed", async () => {
    const client = peer.client();
    const work = await client.create(USER, "calendar", "Arbeit & Möbel");
    const people = await client.create(USER, "addressbook", "People / 2026");
    await client.add(
      USER,
      work,
      "crane.ics",
      Buffer.from(eventOf("c-1", "Crane inspection", "20261203T080000Z")),
    );
    await client.add(
      USER,
      work,
      "all day.ics",
      Buffer.from(eventOf("c-2", "Harbour fête", "20261204T000000Z")),
    );
    await client.add(USER, work, "meeting.ics", withoutScheduling(Buffer.from(MEETING)));
    await client.add(
      USER,
      people,
      "till.vcf",
      Buffer.from(cardOf("p-1", "Till Orrin", ["EMAIL:till@orrin.example"])),
    );
    const before = await shownBy(peer);
    expect(before).toHaveLength(4);
    expect(before).toContain(
      "calendar Arbeit & Möbel: m-1@lanternfold.example Rent, keys; and a roof 20991201T090000Z",
    );

    const first = await store(peer.client(), depot);
    expect([first.fetched, first.counts.files]).toEqual([4, 4]);
    const second = await store(peer.client(), depot, first);
    expect([second.fetched, second.figures.filesUnchanged]).toEqual([0, 4]);
    expect(Buffer.from(second.root).equals(first.root)).toBe(true);

    await removeAll(peer);
    expect(await shownBy(peer)).toEqual([]);
    const emptied = await store(peer.client(), depot, second);
    expect(emptied.figures.removed).toBe(4);
    const back = await restore(peer.client(), depot, first.root);
    expect(back).toMatchObject({ files: 4, present: 0, cautions: 0 });
    expect(await shownBy(peer)).toEqual(before);
    expect(await restore(peer.client(), depot, first.root)).toMatchObject({
      files: 0,
      present: 4,
      folders: 0,
    });
    expect(await shownBy(peer)).toEqual(before);
  });

  it.skipIf(why)(
    "come back into a calendar that is not there, one by one, after a lost answer as well",
    async () => {
      const made = await store(peer.client(), depot);
      const path = made.paths.find((one) => one.endsWith("crane.ics"))!;
      await removeAll(peer);
      const client = peer.client();
      const add = client.add.bind(client);
      let lost = 0;
      client.add = async (...asked) => {
        const done = await add(...asked);
        if (lost++ === 0) throw new CodedError("source.not-reached", "the line broke");
        return done;
      };
      const back = await restore(client, depot, made.root, { path, folder: "/Restored on Friday" });
      expect(back).toMatchObject({ files: 1, folders: 1, cautions: 0 });
      expect(await shownBy(peer)).toEqual([
        "calendar Restored on Friday: c-1 Crane inspection 20261203T080000Z",
      ]);
    },
  );

  it.skipIf(why)("are left out where a policy says so, each kind by itself", async () => {
    await removeAll(peer);
    const client = peer.client();
    const [calendar] = (await client.collections(USER)).filter((one) => one.kind === "calendar");
    const [book] = (await client.collections(USER)).filter((one) => one.kind === "addressbook");
    await client.add(USER, calendar!, "x.ics", Buffer.from(eventOf("x", "X", "20261203T080000Z")));
    await client.add(USER, book!, "y.vcf", Buffer.from(cardOf("y", "Y Z")));
    const kinds = async (what: object) =>
      (await store(peer.client(), depot, null, what)).paths.filter((one) => /\.(ics|vcf)$/.test(one)).length;
    expect(await kinds({})).toBe(2);
    expect(await kinds({ calendars: false })).toBe(1);
    expect(await kinds({ contacts: false })).toBe(1);
    expect(await kinds({ exclude: ["Calendars"] })).toBe(1);
    expect(await kinds({ calendars: false, contacts: false })).toBe(0);
  });

  it.skipIf(why)("refuse a wrong password, and an item that the server does not take", async () => {
    const wrong = new DavClient({
      address: new URL("/", (await peer.client().collections(USER))[0]!.url).href,
      signIn: async () => ({ authorization: `Basic ${Buffer.from("ada:nothing").toString("base64")}` }),
    });
    await expect(wrong.collections(USER)).rejects.toMatchObject({ code: "source.signin-refused" });
    const [calendar] = await peer.client().collections(USER);
    await expect(
      peer.client().add(USER, calendar!, "bad.ics", Buffer.from("nonsense")),
    ).rejects.toMatchObject({ code: "restore.message-rejected" });
  });
});

describe("a target without calendars", () => {
  it("keeps each entry out, says so in the log, and goes on", async () => {
    const why = whyNoRadicale();
    if (why) return;
    const server = await Radicale.start({ [USER]: SECRET });
    try {
      await server.make(USER, "calendar", "work", "Work");
      await server.put(USER, "work/a.ics", eventOf("a", "A", "20261203T080000Z"));
      const depot = new TestDepot();
      const peer = peerOf("Radicale", server.address(), async () => {});
      const { root } = await store(peer.client(), depot);
      const back = await restore(null, depot, root);
      expect(back).toMatchObject({ files: 0, cautions: 1 });
      expect(back.lines).toMatchObject([
        { code: "restore.message-rejected", message: expect.stringContaining("no address for calendars") },
      ]);
    } finally {
      await server.stop();
    }
  });
});

describe("a meeting", () => {
  it("is restored without asking the server to invite anybody", () => {
    const sent = withoutScheduling(Buffer.from(MEETING)).toString();
    expect(sent.replaceAll(/\r\n[ \t]/g, "")).toMatch(/ORGANIZER;CN=Ada;SCHEDULE-AGENT=CLIENT:mailto:ada/);
    expect(sent.replaceAll(/\r\n[ \t]/g, "")).toMatch(/ATTENDEE;.*SCHEDULE-AGENT=CLIENT:mailto:till/);
    expect(davHead(Buffer.from(sent), "calendar").title).toBe("Rent, keys; and a roof");
    const alone = eventOf("x", "Nobody else", "20261203T080000Z");
    expect(withoutScheduling(Buffer.from(alone)).toString()).toBe(alone);
    for (const odd of ["ATTENDEE:x", "BEGIN:VCALENDAR\nATTENDEE:x"])
      expect(withoutScheduling(Buffer.from(odd)).toString()).toBe(odd);
  });
});

describe("the head of an item", () => {
  it.each([
    [
      "folded lines",
      "BEGIN:VEVENT\r\nSUMMARY:Two\r\n  lines\r\nUID:a\r\n b\r\nEND:VEVENT",
      { uid: "ab", title: "Two lines" },
    ],
    [
      "parameters",
      'BEGIN:VEVENT\nSUMMARY;LANGUAGE="de:AT":Kran\nDTSTART;TZID=Europe/Lisbon:20261201T090000',
      { title: "Kran", start: "20261201T090000" },
    ],
    [
      "an alarm inside",
      "BEGIN:VEVENT\nBEGIN:VALARM\nSUMMARY:no\nUID:no\nEND:VALARM\nUID:yes\nSUMMARY:yes",
      { uid: "yes", title: "yes" },
    ],
    ["a task", "BEGIN:VTODO\nSUMMARY:Paint\nDUE:20261201", { title: "Paint", start: "20261201" }],
    ["nothing", "", { uid: null, title: "", start: null }],
    ["no text at all", "\xff\xfe\0\0", { uid: null, title: "" }],
  ])("is read with %s", (_what, text, head) => {
    expect(davHead(Buffer.from(text, "latin1"), "calendar")).toMatchObject(head);
  });
  it("of a contact has the formatted name, also with a group before it", () => {
    expect(davHead(Buffer.from(cardOf("p", "Ada Orrin")), "addressbook")).toMatchObject({
      uid: "p",
      title: "Ada Orrin",
    });
    expect(davHead(Buffer.from("BEGIN:VCARD\nitem1.FN:A\\, B"), "addressbook").title).toBe("A, B");
  });
});
