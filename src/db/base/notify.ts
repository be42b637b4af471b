import pg from "pg";
import type { ClientId, MachineId } from "@/core/ids";
import type { Tx } from "./scope";

/** A change that somebody may be waiting for. Sent when the transaction commits. */
export interface ChangeNotice {
  readonly kind: "run" | "machine" | "source" | "client" | "policy" | "depot" | "connection" | "progress";
  readonly clientId: ClientId | null;
  readonly id: string;
  readonly machineId?: MachineId | undefined;
}

const CHANNEL = "deepkeep";

export const notify = async (tx: Tx, notice: ChangeNotice): Promise<void> => {
  await tx.query("select pg_notify($1, $2)", [CHANNEL, JSON.stringify(notice)]);
};

/** Listens for changes until closed; connects again when the database comes back. */
export function listenForChanges(
  connectionString: string,
  hear: (notice: ChangeNotice) => void,
): { close(): Promise<void> } {
  let client: pg.Client | null = null;
  let closed = false;
  let timer: NodeJS.Timeout | undefined;
  const connect = async () => {
    timer = undefined;
    const next = new pg.Client({ connectionString });
    next.on("error", () => {});
    next.on("end", () => {
      client = null;
      if (!closed) timer = setTimeout(connect, 1000);
    });
    next.on("notification", ({ payload }) => payload && hear(JSON.parse(payload) as ChangeNotice));
    try {
      await next.connect();
      await next.query(`listen ${CHANNEL}`);
      client = next;
    } catch {
      await next.end().catch(() => {});
      if (!closed && !timer) timer = setTimeout(connect, 1000);
    }
  };
  void connect();
  return {
    close: async () => {
      closed = true;
      clearTimeout(timer);
      await client?.end().catch(() => {});
    },
  };
}
