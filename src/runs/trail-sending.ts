import { once } from "node:events";
import { connect as connectPlain, type Socket } from "node:net";
import { hostname } from "node:os";
import { connect as connectSecure } from "node:tls";
import { framed, syslogMessage } from "@/core/units/syslog";
import { type ChainedRow, noteTrailSent, trailAfter, trailSent } from "@/db/access/trail";
import type { Services } from "@/server/base/services";

/**
 * The trail goes to a log server as it grows (RFC 5424 over TCP or TLS), so that whoever takes this machine over cannot
 * take away what was written before. A server of this protocol gives no receipt: what was under way when a connection
 * broke is sent once more, and is known by its id.
 */

const system = { role: "system" } as const;
const PAGE = 500;
const WAIT_MS = 10_000;

export interface TrailTarget {
  /** As the operator wrote it. */
  readonly address: string;
  readonly secure: boolean;
  readonly host: string;
  readonly port: number;
}

/** The log server that `DEEPKEEP_TRAIL_TO` names; null without one. Throws what is wrong with it. */
export function trailTarget(address: string | undefined): TrailTarget | null {
  if (!address) return null;
  const url = URL.canParse(address) ? new URL(address) : null;
  const secure = url?.protocol === "tls:";
  if (!url?.hostname || !(secure || url.protocol === "tcp:") || !url.port)
    throw new Error(
      `DEEPKEEP_TRAIL_TO is ${address}; it must be tls://host:6514, or tcp://host:601 inside a network that you trust.`,
    );
  return { address, secure, host: url.hostname.replace(/^\[|\]$/g, ""), port: Number(url.port) };
}

async function connected(target: TrailTarget): Promise<Socket> {
  const { secure, host, port } = target;
  const socket = secure ? connectSecure({ host, port, servername: host }) : connectPlain({ host, port });
  socket.setTimeout(WAIT_MS, () => socket.destroy(new Error(`${target.address} does not answer`)));
  await once(socket, secure ? "secureConnect" : "connect");
  return socket;
}

const messageOf = ({ previous, hash, clientName, clientId, ...row }: ChainedRow, host: string): string =>
  syslogMessage(
    row.at,
    host,
    "deep-keep",
    "trail",
    JSON.stringify({
      ...row,
      client: clientName,
      clientId,
      previous: previous.toString("hex"),
      hash: hash.toString("hex"),
    }),
  );

/** Sends what was not sent yet, oldest first, and returns how many rows that were. */
export async function sendTrail(services: Services, target: TrailTarget): Promise<number> {
  const page = async (after: number) =>
    services.db.withScope(system, (tx) => trailAfter(tx, {}, after, PAGE));
  const from = await services.db.withScope(system, (tx) => trailSent(tx, target.address));
  let rows = await page(from);
  let sent = 0;
  while (rows.length) {
    // a connection for each page: that the server closed it in peace is all the receipt there is
    const socket = await connected(target);
    const closed = once(socket, "close");
    socket.resume();
    socket.end(Buffer.concat(rows.map((row) => framed(messageOf(row, hostname())))));
    await closed;
    const upto = Number(rows.at(-1)!.id);
    await services.db.withScope(system, (tx) => noteTrailSent(tx, target.address, upto));
    sent += rows.length;
    rows = await page(upto);
  }
  return sent;
}
