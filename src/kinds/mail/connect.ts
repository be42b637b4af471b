import { CodedError } from "@/core/codes";
import { trySteps } from "@/store/steps";
import type { NetworkAccess, OpenConnection } from "../network";
import type { MailAccount } from "./client";
import { JmapClient, type MailAuth } from "./jmap";
import { MailboxReader } from "./reader";
import { restoreMail } from "./restore";
import type { MailSettings } from "./settings";

function clientOf({ address, settings, secret }: OpenConnection<MailSettings>): JmapClient {
  const { auth = "application", tenantId, clientId, otherHosts = [] } = settings;
  const by: Record<typeof auth, MailAuth> = {
    application: { kind: "application", tenantId, clientId, clientSecret: secret },
    password: { kind: "password", user: clientId, password: secret },
    bearer: { kind: "bearer", token: secret },
  };
  return new JmapClient({ address, auth: by[auth], otherHosts });
}

export const MAIL_ACCESS: NetworkAccess<MailSettings> = {
  async test(connection) {
    const client = clientOf(connection);
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
          return `${found.length} found`;
        },
      ],
    ]);
    return { ...test, found };
  },
  open: (connection, id) => MailboxReader.open(clientOf(connection), id),
  restore: (connection, id, work) => restoreMail(clientOf(connection), id, work),
};
