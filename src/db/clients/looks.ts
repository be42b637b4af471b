import type { ClientId } from "@/core/ids";
import { change, one, type Tx } from "../base/scope";

/** Colour and logo of a client's statement and portal. */
export interface ClientLook {
  /** `#rrggbb`, which is readable on white; null for the console's own. */
  readonly colour: string | null;
  readonly hasLogo: boolean;
}

export const lookOf = async (tx: Tx, clientId: ClientId): Promise<ClientLook> =>
  (await one<ClientLook>(tx, `select colour, logo is not null as "hasLogo" from looks where client_id = $1`, [
    clientId,
  ])) ?? { colour: null, hasLogo: false };

/** Both at once, for a statement on paper. */
export const wholeLook = async (
  tx: Tx,
  clientId: ClientId,
): Promise<{ readonly colour: string | null; readonly logo: Buffer | null }> =>
  (await one<{ colour: string | null; logo: Buffer | null }>(
    tx,
    "select colour, logo from looks where client_id = $1",
    [clientId],
  )) ?? { colour: null, logo: null };

export const setColour = (tx: Tx, clientId: ClientId, colour: string | null, now: Date) =>
  change(
    tx,
    `insert into looks (client_id, colour, changed_at) values ($1, $2, $3)
     on conflict (client_id) do update set colour = excluded.colour, changed_at = excluded.changed_at`,
    [clientId, colour, now],
  );
export const setLogo = (tx: Tx, clientId: ClientId, logo: Buffer | null, now: Date) =>
  change(
    tx,
    `insert into looks (client_id, logo, changed_at) values ($1, $2, $3)
     on conflict (client_id) do update set logo = excluded.logo, changed_at = excluded.changed_at`,
    [clientId, logo, now],
  );
