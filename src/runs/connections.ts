import { randomUUID } from "node:crypto";
import { CodedError } from "@/core/codes";
import type { ConnectionId } from "@/core/ids";
import { notify } from "@/db/base/notify";
import type { Tx } from "@/db/base/scope";
import {
  type Connection,
  connectionById,
  listConnections,
  lockSecret,
  markChecked,
  markVanished,
  setSecret,
} from "@/db/sources/connections";
import { freeSourceName, insertSource, sourcesOfConnection } from "@/db/sources/sources";
import type { OpenConnection } from "@/kinds/connection-base";
import type { FoundSource, NetworkAccess } from "@/kinds/network";
import { networkAccess } from "@/kinds/server";
import type { ConnectionSettings } from "@/kinds/settings";
import { findGroups } from "@/server/access/rules";
import type { Services } from "@/server/base/services";

/** What the trail and the seals call a connection's secret. */
export const secretContext = (connectionId: ConnectionId): string => `connection ${connectionId}`;

/** A connection with its secret in the clear. */
export const opened = (
  services: Services,
  { id, address, settings, secret }: Connection,
): OpenConnection<ConnectionSettings> => ({
  address,
  settings,
  secret: services.secrets.unseal(secret, secretContext(id)).toString("utf8"),
  renew: (next) =>
    services.db.withScope({ role: "system" }, async (tx) => {
      const stored = await lockSecret(tx, id);
      if (!stored) throw new CodedError("not-found", "the connection was removed");
      const before = services.secrets.unseal(stored.secret, secretContext(id)).toString("utf8");
      const after = await next(before);
      if (after !== before)
        await setSecret(tx, id, services.secrets.seal(Buffer.from(after), secretContext(id)));
      return after;
    }),
});

export type ConnectionTest = Awaited<ReturnType<NetworkAccess<never, never>["test"]>>;

/** Adds a source for each new thing that a connection offers, and marks those that it no longer has. */
export async function addFound(
  tx: Tx,
  connection: Connection,
  found: readonly FoundSource[],
  now: Date,
): Promise<number> {
  const known = new Set((await sourcesOfConnection(tx, connection.id)).map((source) => source.remoteId));
  let made = 0;
  for (const account of found) {
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
        kind: connection.kind,
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
    found.map((account) => account.id),
    now,
  );
  return made;
}

/** Tests a connection, records the result, and adds new sources. */
export async function lookAt(services: Services, connectionId: ConnectionId): Promise<ConnectionTest> {
  const now = services.now();
  const connection = await services.db.withScope({ role: "system" }, (tx) =>
    connectionById(tx, connectionId),
  );
  if (!connection) throw new CodedError("not-found");
  const test = await networkAccess(connection.kind).test(opened(services, connection));
  await services.db.withScope({ role: "system" }, async (tx) => {
    await markChecked(
      tx,
      connection.id,
      now,
      test.code,
      test.code ? (test.steps.at(-1)?.message ?? null) : null,
    );
    if (test.ok) await addFound(tx, connection, test.found, now);
    await notify(tx, { kind: "connection", clientId: connection.clientId, id: connection.id });
  });
  return test;
}

/** Does so for every connection that was not removed. */
export async function lookAtAll(services: Services): Promise<void> {
  const connections = await services.db.withScope({ role: "system" }, (tx) => listConnections(tx));
  for (const connection of connections) if (!connection.goneAt) await lookAt(services, connection.id);
}
