import type { ClientId, MachineId, SiteId } from "@/core/ids";
import { all, change, one, type Tx } from "../base/scope";

/** What an agent reports of its machine. Sizes in bytes. */
export interface MachineSystem {
  readonly hostname?: string;
  readonly system?: string;
  readonly kernel?: string;
  readonly cores?: number;
  readonly memory?: number;
  readonly agent?: string;
  readonly volumes?: readonly { readonly path: string; readonly size: number; readonly free: number }[];
}

export interface Machine {
  readonly id: MachineId;
  readonly clientId: ClientId;
  readonly siteId: SiteId;
  readonly name: string;
  readonly publicKey: Buffer;
  readonly system: MachineSystem;
  readonly enrolledAt: Date;
  readonly seenAt: Date | null;
  readonly goneAt: Date | null;
}

const MACHINE = `id, client_id as "clientId", site_id as "siteId", name, public_key as "publicKey", system,
  enrolled_at as "enrolledAt", seen_at as "seenAt", gone_at as "goneAt"`;

export const listMachines = (tx: Tx, clientId: ClientId | null = null) =>
  all<Machine>(
    tx,
    `select ${MACHINE} from machines where ($1::uuid is null or client_id = $1) order by name`,
    [clientId],
  );
export const machineById = (tx: Tx, id: MachineId) =>
  one<Machine>(tx, `select ${MACHINE} from machines where id = $1`, [id]);
export const machineByToken = (tx: Tx, tokenHash: Buffer) =>
  one<Machine>(tx, `select ${MACHINE} from machines where token_hash = $1 and gone_at is null`, [tokenHash]);

export const insertMachine = (tx: Tx, machine: Omit<Machine, "goneAt">, tokenHash: Buffer) =>
  change(
    tx,
    `insert into machines (id, client_id, site_id, name, token_hash, public_key, system, enrolled_at, seen_at)
     values ($1, $2, $3, $4, $5, $6, $7, $8, $9)`,
    [
      machine.id,
      machine.clientId,
      machine.siteId,
      machine.name,
      tokenHash,
      machine.publicKey,
      JSON.stringify(machine.system),
      machine.enrolledAt,
      machine.seenAt,
    ],
  );

export const markSeen = (tx: Tx, id: string, now: Date, system: MachineSystem | null = null) =>
  change(tx, "update machines set seen_at = $2, system = coalesce($3, system) where id = $1", [
    id,
    now,
    system ? JSON.stringify(system) : null,
  ]);
/** Takes a machine away; its sources and their points remain. */
export const markGone = (tx: Tx, id: string, now: Date) =>
  change(tx, "update machines set gone_at = $2 where id = $1 and gone_at is null", [id, now]);

export const insertCode = (
  tx: Tx,
  code: {
    id: Buffer;
    clientId: ClientId;
    siteId: SiteId;
    expiresAt: Date;
    uses: number;
    createdBy: string | null;
  },
  now: Date,
) =>
  change(
    tx,
    `insert into enrolment_codes (id, client_id, site_id, expires_at, uses_left, created_by, created_at)
     values ($1, $2, $3, $4, $5, $6, $7)`,
    [code.id, code.clientId, code.siteId, code.expiresAt, code.uses, code.createdBy, now],
  );

/** Takes one use of a code; null when it is unknown, expired or used up. */
export const useCode = (tx: Tx, id: Buffer, now: Date) =>
  one<{ clientId: ClientId; siteId: SiteId }>(
    tx,
    `update enrolment_codes set uses_left = uses_left - 1 where id = $1 and uses_left > 0 and expires_at > $2
     returning client_id as "clientId", site_id as "siteId"`,
    [id, now],
  );
