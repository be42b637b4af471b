import { createServer, request as forward } from "node:http";
import type { AddressInfo } from "node:net";
import { afterEach, describe, expect, it } from "vitest";
import type { Code } from "@/core/codes";
import { MailServer } from "@/standins/mail/server";
import {
  type Folder,
  type Mailbox,
  MailTenants,
  STANDARD_FOLDERS,
  type Tenant,
} from "@/standins/mail/tenants";
import { freshFolder, snap, TestDepot } from "../../../tests/depot";
import { JmapClient } from "./jmap";
import { MailboxReader } from "./reader";
import { messageIdOf, restoreMail } from "./restore";

const closing: (() => Promise<void>)[] = [];
afterEach(async () => {
  for (const close of closing.splice(0)) await close();
});

const FOLDERS: readonly Folder[] = [
  ...STANDARD_FOLDERS,
  { id: "trash", name: "Bin", parentId: null, role: "trash" },
  { id: "repairs", name: "Repairs / 2026", parentId: "inbox", role: null },
  { id: "quay", name: "Kai ☂ Ärger", parentId: "repairs", role: null },
];
const mailbox = (id: string, folders: readonly Folder[] = FOLDERS): Mailbox => ({
  id,
  address: `${id}@pendlewick.example`,
  folders,
  messages: [],
});

/** A mail server with two mailboxes behind a line that a test can cut. */
async function world() {
  const tenants = new MailTenants(freshFolder("mail"));
  const [lettings, accounts] = [mailbox("lettings"), mailbox("accounts", STANDARD_FOLDERS)];
  const tenant: Tenant = {
    tenantId: "pendlewick",
    applications: [{ clientId: "keep", secret: "s", expiresAt: "2099-01-01T00:00:00.000Z" }],
    mailboxes: [lettings, accounts],
  };
  tenants.add(tenant);
  const server = new MailServer(tenants);
  const behind = await server.listen();
  let calls = 0;
  const line = {
    /** Cuts this call, before the server hears it or after it has acted. */
    cut: null as null | { readonly at: number; readonly when: "before" | "after" },
    get calls() {
      return calls;
    },
    begin() {
      calls = 0;
    },
  };
  const proxy = createServer((request, response) => {
    calls += 1;
    const cut = line.cut?.at === calls ? line.cut.when : null;
    if (cut === "before") return void request.socket.destroy();
    const inner = forward(
      new URL(request.url!, behind),
      { method: request.method!, headers: { ...request.headers, host: request.headers.host! } },
      (answer) => {
        if (cut === "after") {
          answer.resume();
          answer.on("end", () => request.socket.destroy());
          return;
        }
        response.writeHead(answer.statusCode!, answer.headers);
        answer.pipe(response);
      },
    );
    request.pipe(inner);
  });
  await new Promise<void>((resolve) => proxy.listen(0, "127.0.0.1", resolve));
  closing.push(async () => {
    proxy.closeAllConnections();
    proxy.close();
    await server.close();
  });
  const address = `http://127.0.0.1:${(proxy.address() as AddressInfo).port}`;
  const client = () =>
    new JmapClient(
      {
        address,
        auth: { kind: "application", tenantId: "pendlewick", clientId: "keep", clientSecret: "s" },
      },
      { attempts: 4, firstPauseMs: 2, silenceMs: 2000 },
    );
  let number = 0;
  const deliver = (
    box: Mailbox,
    text: string,
    {
      folders = ["inbox"],
      keywords = {},
      id = true,
    }: { folders?: string[]; keywords?: object; id?: boolean } = {},
  ) => {
    number += 1;
    tenants.deliver(
      tenant,
      box,
      {
        id: `e${number}`,
        mailboxIds: Object.fromEntries(folders.map((folder) => [folder, true])),
        keywords: { ...keywords },
        receivedAt: new Date(Date.UTC(2026, 10, 1, 8, number)).toISOString(),
        subject: text,
      },
      Buffer.from(
        `${id ? `Message-ID: <${number}@pendlewick.example>\r\n` : ""}Subject: ${text}\r\n\r\n${text}\r\n`,
      ),
    );
  };
  /** What is in a mailbox: of each message its folders, flags, time and text. */
  const seen = (box: Mailbox) => {
    const path = (id: string): string => {
      const folder = box.folders.find((one) => one.id === id)!;
      return `${folder.parentId ? `${path(folder.parentId)} > ` : ""}${folder.name}`;
    };
    return box.messages
      .map((one) => ({
        text: tenants.read(tenant, box, one.id)!.toString("utf8"),
        folders: Object.keys(one.mailboxIds).map(path).sort(),
        keywords: Object.keys(one.keywords).sort(),
        at: Date.parse(one.receivedAt),
      }))
      .sort((a, b) => a.at - b.at || (a.text < b.text ? -1 : 1));
  };
  return { lettings, accounts, client, deliver, seen, line, server };
}

async function protectedPoint(client: JmapClient, id: string) {
  const depot = new TestDepot();
  const { root } = await snap(depot, "", { reader: await MailboxReader.open(client, id) });
  return { depot, root };
}

/** Restores paths of a point, and tells what was said. */
async function restore(
  client: JmapClient,
  to: string,
  point: Awaited<ReturnType<typeof protectedPoint>>,
  { paths = ["/"], folder = null }: { paths?: string[]; folder?: string | null } = {},
) {
  const lines: { level: string; code: Code | null; path: string | null; message: string }[] = [];
  const result = await restoreMail(
    client,
    to,
    {
      items: paths.map((path) => ({ store: point.depot.reader(), root: point.root, path, momentLabel: "" })),
      folder,
      expect: () => {},
      log: (level, code, path, message) => void lines.push({ level, code, path, message }),
      progress: { items: 0, bytes: 0 },
      signal: new AbortController().signal,
    },
    { pauseMs: 1 },
  );
  return { ...result, lines };
}

async function filled() {
  const made = await world();
  const { lettings, deliver } = made;
  deliver(lettings, "seen and flagged", { keywords: { $seen: true, $flagged: true } });
  deliver(lettings, "unread");
  deliver(lettings, "below", { folders: ["repairs"], keywords: { $seen: true, invoice: true } });
  deliver(lettings, "far below", { folders: ["quay"] });
  deliver(lettings, "in two folders", { folders: ["inbox", "quay"], keywords: { $answered: true } });
  deliver(lettings, "thrown away", { folders: ["trash"] });
  deliver(lettings, "without an id", { id: false });
  const before = made.seen(lettings);
  return { ...made, before, point: await protectedPoint(made.client(), "lettings") };
}

describe("restoring into a mailbox", () => {
  it("brings back every message with its folders, flags and time after the mailbox was emptied", async () => {
    const { lettings, client, seen, before, point } = await filled();
    lettings.messages = [];
    lettings.folders = STANDARD_FOLDERS;
    const result = await restore(client(), "lettings", point);
    expect(result).toMatchObject({ files: 8, present: 0, cautions: 0, folders: 3 });
    expect(seen(lettings)).toEqual(before);
    expect(result.lines.filter((line) => line.path?.endsWith(".eml")).length).toBe(8);
  });

  it("duplicates nothing when it is repeated, and keeps what is there as it is", async () => {
    const { lettings, client, seen, before, point } = await filled();
    expect(await restore(client(), "lettings", point)).toMatchObject({ files: 0, present: 8, folders: 0 });
    expect(seen(lettings)).toEqual(before);
    lettings.messages[0]!.keywords = { $answered: true };
    lettings.messages.splice(1, 1);
    const result = await restore(client(), "lettings", point);
    expect(result).toMatchObject({ files: 1, present: 7 });
    expect(lettings.messages[0]!.keywords).toEqual({ $answered: true });
    expect(seen(lettings).map((one) => one.text)).toEqual(before.map((one) => one.text));
  });

  it("keeps both of two messages with one id and different content", async () => {
    const { lettings, client, seen, deliver } = await world();
    deliver(lettings, "first");
    const point = await protectedPoint(client(), "lettings");
    lettings.messages = [];
    deliver(lettings, "other");
    // the same length, another text, under the id of the first
    const there = seen(lettings)[0]!;
    expect(there.text.length).toBe(
      "Message-ID: <1@pendlewick.example>\r\nSubject: first\r\n\r\nfirst\r\n".length,
    );
    expect(await restore(client(), "lettings", point)).toMatchObject({ files: 1, present: 0 });
    expect(lettings.messages.length).toBe(2);
  });

  it("puts one message, or a folder, into another folder of another mailbox", async () => {
    const { accounts, client, seen, point } = await filled();
    const reader = await MailboxReader.open(client(), "lettings");
    const inbox = [...(reader.list("/Inbox").items as Iterable<{ name: string }>)].map((one) => one.name);
    const one = inbox.find((name) => name.includes("unread"))!;
    await restore(client(), "accounts", point, { paths: [`/Inbox/${one}`], folder: "From lettings/2026" });
    expect(seen(accounts)).toMatchObject([{ folders: ["From lettings > 2026"] }]);
    await restore(client(), "accounts", point, { paths: ["/Inbox/Repairs   2026"], folder: "From lettings" });
    expect(
      seen(accounts)
        .flatMap((each) => each.folders)
        .sort(),
    ).toEqual([
      "From lettings > 2026",
      "From lettings > Repairs / 2026",
      "From lettings > Repairs / 2026 > Kai ☂ Ärger",
      "From lettings > Repairs / 2026 > Kai ☂ Ärger",
    ]);
  });

  it("finds the folder by what it is for where the other mailbox calls it otherwise", async () => {
    const { accounts, client, seen, point } = await filled();
    accounts.folders = [{ id: "in", name: "Eingang", parentId: null, role: "inbox" }];
    await restore(client(), "accounts", point, { paths: ["/Inbox"] });
    expect(accounts.folders.filter((one) => one.parentId === null).map((one) => one.name)).toEqual([
      "Eingang",
    ]);
    expect(seen(accounts).length).toBe(6);
  });

  it("goes on after each cut of the line, before or after the server acted, with nothing twice", async () => {
    const { lettings, client, seen, before, point, line } = await filled();
    lettings.messages = [];
    line.begin();
    await restore(client(), "lettings", point);
    const calls = line.calls;
    expect(calls).toBeGreaterThan(15);
    for (const when of ["before", "after"] as const)
      for (let at = 1; at <= calls; at += 1) {
        lettings.messages = [];
        line.begin();
        line.cut = { at, when };
        await restore(client(), "lettings", point);
        expect(seen(lettings), `cut ${when} call ${at}`).toEqual(before);
      }
  });

  it("asks again where the server itself fails, and goes on", async () => {
    const { lettings, client, seen, before, point, server } = await filled();
    lettings.messages = [];
    lettings.folders = STANDARD_FOLDERS;
    server.failEvery = 3;
    expect(await restore(client(), "lettings", point)).toMatchObject({ cautions: 0 });
    expect(server.failed).toBeGreaterThan(2);
    expect(seen(lettings)).toEqual(before);
  });

  it("stops at a full mailbox, and goes on where it was once there is room", async () => {
    const { lettings, client, seen, before, point } = await filled();
    lettings.messages = [];
    lettings.quota = 300;
    await expect(restore(client(), "lettings", point)).rejects.toMatchObject({
      code: "restore.mailbox-full",
    });
    const part = lettings.messages.length;
    expect(part).toBeGreaterThan(0);
    delete lettings.quota;
    await restore(client(), "lettings", point);
    expect(seen(lettings)).toEqual(before);
  });

  it("changes nothing in a mailbox that is given for reading only", async () => {
    const { lettings, client, point } = await filled();
    lettings.messages = [];
    lettings.readOnly = true;
    await expect(restore(client(), "lettings", point)).rejects.toMatchObject({ code: "restore.read-only" });
    expect(lettings.messages).toEqual([]);
  });

  it("takes what is chosen twice once, a folder with one inside it", async () => {
    const { lettings, client, seen, before, point } = await filled();
    lettings.messages = [];
    const paths = ["/Inbox", "/Inbox/Repairs   2026", "/Bin"];
    expect(await restore(client(), "lettings", point, { paths })).toMatchObject({ files: 8, present: 0 });
    expect(seen(lettings)).toEqual(before);
  });

  it("names a folder that the point does not have", async () => {
    const { client, point } = await filled();
    await expect(restore(client(), "lettings", point, { paths: ["/Nowhere"] })).rejects.toMatchObject({
      code: "not-found",
    });
  });
});

describe("the id of a message", () => {
  it.each([
    ["Message-ID: <a@b>\r\n\r\nbody", "a@b"],
    ["Subject: x\r\nMESSAGE-Id:\r\n <a@b>\r\n\r\n", "a@b"],
    ["Message-ID: <a@\r\n\tb>\r\n\r\n", "a@b"],
    ["X-Message-ID: <no@b>\r\nSubject: Message-ID: <no@b>\r\n\r\nMessage-ID: <no@b>\r\n", null],
    ["Message-ID: none\r\n\r\n", null],
    ["", null],
  ])("of %j is %j", (text, id) => {
    expect(messageIdOf(Buffer.from(text))).toBe(id);
  });
});
