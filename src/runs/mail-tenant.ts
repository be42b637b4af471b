import { randomUUID } from "node:crypto";
import { CodedError } from "@/core/codes";
import type { ConnectionId } from "@/core/ids";
import { notify } from "@/db/base/notify";
import type { Tx } from "@/db/base/scope";
import {
  type Connection,
  connectionById,
  listConnections,
  type MailSettings,
  markChecked,
  markVanished,
} from "@/db/sources/connections";
import { freeSourceName, insertSource, sourcesOfConnection } from "@/db/sources/sources";
import { findGroups } from "@/server/access/rules";
import type { Services } from "@/server/base/services";
import { type Steps, trySteps } from "@/server/sources/steps";
import { JmapClient, type MailAccount, type MailAuth, type MailTenant } from "@/sources/mail/jmap";

/** What the trail and the seals call a connection's secret. */
export const secretContext = (connectionId: ConnectionId): string => `connection ${connectionId}`;

/** A tenant as it is signed in to, with a secret in the clear. */
export function tenantWith(address: string, settings: MailSettings, secret: string): MailTenant {
  const { auth = "application", tenantId, clientId, otherHosts = [] } = settings;
  const by: Record<typeof auth, MailAuth> = {
    application: { kind: "application", tenantId, clientId, clientSecret: secret },
    password: { kind: "password", user: clientId, password: secret },
    bearer: { kind: "bearer", token: secret },
  };
  return { address, auth: by[auth], otherHosts };
}

export const tenantOf = (services: Services, { id, address, settings, secret }: Connection): MailTenant =>
  tenantWith(address, settings, services.secrets.unseal(secret, secretContext(id)).toString("utf8"));

export interface TenantTest extends Steps {
  readonly accounts: readonly MailAccount[];
}

/** Tries a mail tenant step by step; stops at the first step that fails. */
export async function testTenant(tenant: MailTenant): Promise<TenantTest> {
  const client = new JmapClient(tenant);
  let accounts: MailAccount[] = [];
  const test = await trySteps([
    [
      "Find the tenant",
      async () => {
        await client.find();
        return null;
      },
    ],
    [
      "Sign in",
      async () => {
        await client.signIn();
        return null;
      },
    ],
    [
      "List the mailboxes",
      async () => {
        accounts = await client.accounts();
        if (accounts.length === 0)
          throw new CodedError("source.not-allowed", "signed in, but no mailbox is open to this account");
        return `${accounts.length} of them`;
      },
    ],
  ]);
  return { ...test, accounts };
}

/** Makes a source of each mailbox that is new, and marks those that the far end has no more. */
export async function takeAccounts(
  tx: Tx,
  connection: Connection,
  accounts: readonly MailAccount[],
  now: Date,
): Promise<number> {
  const known = new Set((await sourcesOfConnection(tx, connection.id)).map((source) => source.remoteId));
  let made = 0;
  for (const account of accounts) {
    if (known.has(account.id)) continue;
    await insertSource(
      tx,
      {
        id: randomUUID(),
        clientId: connection.clientId,
        siteId: connection.siteId,
        machineId: null,
        connectionId: connection.id,
        remoteId: account.id,
        kind: "mail",
        name: await freeSourceName(tx, connection.clientId, account.name),
      },
      now,
    );
    made += 1;
  }
  if (made) await findGroups(tx, connection.clientId, now);
  await markVanished(
    tx,
    connection.id,
    accounts.map((account) => account.id),
    now,
  );
  return made;
}

/** Looks at a connection: tests it, notes how that went, and takes up what is new there. */
export async function lookAt(services: Services, connectionId: ConnectionId): Promise<TenantTest> {
  const now = services.now();
  const connection = await services.db.withScope({ role: "system" }, (tx) =>
    connectionById(tx, connectionId),
  );
  if (!connection) throw new CodedError("not-found");
  const test = await testTenant(tenantOf(services, connection));
  await services.db.withScope({ role: "system" }, async (tx) => {
    await markChecked(
      tx,
      connection.id,
      now,
      test.code,
      test.code ? (test.steps.at(-1)?.message ?? null) : null,
    );
    if (test.ok) await takeAccounts(tx, connection, test.accounts, now);
    await notify(tx, { kind: "connection", clientId: connection.clientId, id: connection.id });
  });
  return test;
}

/** Looks at every connection that was not taken away. */
export async function lookAtAll(services: Services): Promise<void> {
  const connections = await services.db.withScope({ role: "system" }, (tx) => listConnections(tx));
  for (const connection of connections) if (!connection.goneAt) await lookAt(services, connection.id);
}
