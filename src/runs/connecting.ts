import { randomUUID } from "node:crypto";
import type { ClientId } from "@/core/ids";
import { notify } from "@/db/base/notify";
import type { Tx } from "@/db/base/scope";
import { clientById, siteById } from "@/db/clients/clients";
import {
  type Connection,
  insertConnection,
  listConnections,
  markChecked,
  setSecret,
} from "@/db/sources/connections";
import { KINDS } from "@/kinds";
import { type ConnectionBody, connectingOf } from "@/kinds/connecting";
import type { OpenConnection } from "@/kinds/connection-base";
import type { FoundSource } from "@/kinds/network";
import { networkAccess } from "@/kinds/server";
import type { ConnectionSettings } from "@/kinds/settings";
import { record, type Who } from "@/server/access/who";
import { invalid, notFound } from "@/server/base/problem";
import type { Services } from "@/server/base/services";
import { addFound, type ConnectionTest, secretContext } from "./connections";

/** Connecting a source over the network: what is refused, the test, and what is stored. */

/** What the seal of a begun authorisation says that it is. */
export const authorisationContext = (id: string): string => `authorisation ${id}`;

/** What the trail calls a connection. */
export const wordOf = ({ kind }: Pick<Connection, "kind">): string =>
  KINDS[kind].connection.name.toLowerCase();

/** What a request becomes. Throws problems of the field that is wrong, or taken. */
export async function wishedConnection(
  tx: Tx,
  clientId: ClientId,
  body: ConnectionBody,
): Promise<OpenConnection<ConnectionSettings>> {
  const { problemOf, connectionOf, identityOf } = connectingOf(body.kind);
  const wished = connectionOf(body);
  if (!(await clientById(tx, clientId))) throw notFound();
  if ((await siteById(tx, body.siteId))?.clientId !== clientId)
    throw invalid("siteId", "Choose a site of this client.");
  const there = (await listConnections(tx, clientId)).filter((one) => !one.goneAt);
  if (there.some((one) => one.name === body.name))
    throw invalid("name", "This client has a connection of this name.");
  const same = there.find((one) => one.kind === body.kind && identityOf(one) === identityOf(wished));
  if (same) throw invalid("address", `This address is connected already, as “${same.name}”.`);
  const problem = problemOf(body);
  if (problem) throw invalid(problem.field, problem.message);
  return wished;
}

/** Tests what is to be connected. Throws a problem of the field that the failing step is about. */
export async function testWished(
  body: ConnectionBody,
  wished: OpenConnection<ConnectionSettings>,
): Promise<ConnectionTest> {
  const test = await networkAccess(body.kind).test({ ...wished, address: body.address });
  if (test.ok) return test;
  const failed = test.steps.at(-1)!;
  throw invalid(
    connectingOf(body.kind).fieldOf(test.code!, body, failed.step),
    `${failed.step}: ${failed.message}`,
  );
}

/** Stores a connection that passed its test, with its sources. */
export async function storeConnection(
  services: Services,
  tx: Tx,
  who: Who,
  clientId: ClientId,
  body: ConnectionBody,
  wished: OpenConnection<ConnectionSettings>,
  found: readonly FoundSource[],
): Promise<{ connection: Connection; sources: number }> {
  const id = randomUUID();
  const connection: Connection = {
    id,
    clientId,
    siteId: body.siteId,
    kind: body.kind,
    name: body.name,
    address: wished.address,
    settings: wished.settings,
    secret: services.secrets.seal(Buffer.from(wished.secret), secretContext(id)),
    checkedAt: who.at,
    checkCode: null,
    checkMessage: null,
    goneAt: null,
  };
  await insertConnection(tx, connection, who.at);
  await markChecked(tx, id, who.at, null, null);
  const sources = await addFound(tx, connection, found, who.at);
  await record(tx, who, clientId, `connected a ${wordOf(connection)}`, body.name, {
    address: connection.address,
    sources,
  });
  await notify(tx, { kind: "connection", clientId, id });
  return { connection, sources };
}

/** Stores a new secret of a connection, which passed its test. */
export async function storeSecret(
  services: Services,
  tx: Tx,
  who: Who,
  connection: Connection,
  secret: string,
  { found, did }: { readonly found: readonly FoundSource[]; readonly did: string },
): Promise<void> {
  await setSecret(
    tx,
    connection.id,
    services.secrets.seal(Buffer.from(secret), secretContext(connection.id)),
  );
  await markChecked(tx, connection.id, who.at, null, null);
  await addFound(tx, connection, found, who.at);
  await record(tx, who, connection.clientId, `${did} a ${wordOf(connection)}`, connection.name);
  await notify(tx, { kind: "connection", clientId: connection.clientId, id: connection.id });
}
