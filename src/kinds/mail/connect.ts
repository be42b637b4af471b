import { CodedError } from "@/core/codes";
import { counted } from "@/core/units/duration";
import { trySteps } from "@/store/steps";
import { byteString } from "@/store/tree/tree";
import type { OpenConnection } from "../connection-base";
import type { NetworkAccess } from "../network";
import type { MailAccount, MailClient } from "./client";
import { DAV_STEP } from "./connecting";
import { DavClient } from "./dav";
import type { DavKind } from "./dav-kinds";
import { type ImapAuth, ImapClient } from "./imap";
import { JmapClient, type MailAuth } from "./jmap";
import { type MailboxDav, MailboxReader } from "./reader";
import { restoreMail } from "./restore";
import type { MailSettings } from "./settings";
import type { MailWhat } from "./what";

function clientOf(connection: OpenConnection<MailSettings>): MailClient {
  return connection.settings.protocol === "imap" ? imapClientOf(connection) : jmapClientOf(connection);
}

function jmapClientOf({ address, settings, secret }: OpenConnection<MailSettings>): JmapClient {
  const { auth, tenantId, clientId, otherHosts = [] } = settings;
  const by: MailAuth =
    auth === "password"
      ? { kind: "password", user: clientId, password: secret }
      : auth === "bearer"
        ? { kind: "bearer", token: secret }
        : { kind: "application", tenantId, clientId, clientSecret: secret };
  return new JmapClient({ address, auth: by, otherHosts });
}

function imapClientOf({ address, settings, secret }: OpenConnection<MailSettings>): ImapClient {
  const { auth, clientId: user, mailboxes = [], separator = "*" } = settings;
  const by: ImapAuth =
    auth === "bearer"
      ? { kind: "bearer", user, token: secret }
      : auth === "master"
        ? { kind: "master", user, password: secret, separator }
        : { kind: auth === "proxy" ? "proxy" : "password", user, password: secret };
  return new ImapClient({ address, auth: by, mailboxes });
}

const basic = (user: string, password: string): string =>
  `Basic ${Buffer.from(`${user}:${password}`, "utf8").toString("base64")}`;

/** Calendars and contacts of a connection that has an address for them, signed in for as its mail is. */
function davClientOf(connection: OpenConnection<MailSettings>): DavClient | null {
  const { auth, dav, clientId: user, separator = "*", otherHosts = [] } = connection.settings;
  if (!dav) return null;
  const { secret } = connection;
  if (connection.settings.protocol !== "imap") {
    // an application's tokens come from the mail server
    const jmap = jmapClientOf(connection);
    return new DavClient({
      address: dav,
      otherHosts,
      signIn: async (_, renew) => ({ authorization: await jmap.credentials(renew) }),
    });
  }
  return new DavClient({
    address: dav,
    otherHosts,
    signIn: async (mailbox): Promise<Record<string, string>> => {
      if (auth === "bearer") return { authorization: `Bearer ${secret}` };
      if (auth === "master") return { authorization: basic(`${mailbox}${separator}${user}`, secret) };
      // HTTP has no proxy authorisation: such a user reads what was shared with it
      return { authorization: basic(user, secret) };
    },
  });
}

/** The calendars and contacts of one mailbox. */
async function mailboxDav(client: MailClient, dav: DavClient | null, id: string): Promise<MailboxDav | null> {
  if (!dav) return null;
  const mailbox = (await client.accounts()).find((account) => account.id === id)?.name;
  if (mailbox === undefined)
    throw new CodedError("source.not-allowed", `the mailbox ${id} is not there any more`);
  return { client: dav, mailbox };
}

/** Works with a client and ends its connection. */
async function using<T>(client: MailClient, work: (client: MailClient) => Promise<T>): Promise<T> {
  try {
    return await work(client);
  } finally {
    await client.end?.();
  }
}

export const MAIL_ACCESS: NetworkAccess<MailSettings, MailWhat> = {
  async test(connection) {
    const dav = davClientOf(connection);
    return using(clientOf(connection), async (client) => {
      let found: MailAccount[] = [];
      const test = await trySteps([
        ["Find the tenant", () => client.find().then(() => null)],
        ["Sign in", () => client.signIn().then(() => null)],
        [
          "List the mailboxes",
          async () => {
            found = await client.accounts();
            if (found.length === 0)
              throw new CodedError("source.not-allowed", "signed in, but this account may open no mailbox");
            // what was named may not exist, or not be ours to read
            if (connection.settings.protocol === "imap") for (const { id } of found) await client.folders(id);
            return `${found.length} found`;
          },
        ],
        ...(dav
          ? [
              [
                DAV_STEP,
                async () => {
                  // what is right for one mailbox is so for all
                  const collections = await dav.collections(found[0]!.name);
                  const number = (kind: DavKind) => collections.filter((one) => one.kind === kind).length;
                  const [calendars, books] = [number("calendar"), number("addressbook")];
                  return `${found[0]!.name}: ${counted(calendars, "calendar")}, ${counted(books, "address book")}`;
                },
              ] as const,
            ]
          : []),
      ]);
      return { ...test, found };
    });
  },
  async open(connection, id, what) {
    const client = clientOf(connection);
    try {
      const wanted = what.calendars || what.contacts;
      const dav = await mailboxDav(client, wanted ? davClientOf(connection) : null, id);
      const reader = await MailboxReader.open(client, id, what, dav);
      return {
        reader,
        folders: what.folders.length ? [...what.folders.map(byteString), ...reader.containers] : ["/"],
      };
    } catch (error) {
      await client.end?.().catch(() => {});
      throw error;
    }
  },
  restore: (connection, id, work) =>
    using(clientOf(connection), (client) =>
      restoreMail(client, id, work, { dav: () => mailboxDav(client, davClientOf(connection), id) }),
    ),
};
