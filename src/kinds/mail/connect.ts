import { CodedError } from "@/core/codes";
import { trySteps } from "@/store/steps";
import type { NetworkAccess, OpenConnection } from "../network";
import type { MailAccount, MailClient } from "./client";
import { type ImapAuth, ImapClient } from "./imap";
import { JmapClient, type MailAuth } from "./jmap";
import { MailboxReader } from "./reader";
import { restoreMail } from "./restore";
import type { MailSettings } from "./settings";

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

/** Works with a client and ends its connection. */
async function using<T>(client: MailClient, work: (client: MailClient) => Promise<T>): Promise<T> {
  try {
    return await work(client);
  } finally {
    await client.end?.();
  }
}

export const MAIL_ACCESS: NetworkAccess<MailSettings> = {
  async test(connection) {
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
      ]);
      return { ...test, found };
    });
  },
  open: (connection, id) => MailboxReader.open(clientOf(connection), id),
  restore: (connection, id, work) => using(clientOf(connection), (client) => restoreMail(client, id, work)),
};
