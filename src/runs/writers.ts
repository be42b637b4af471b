import { randomUUID } from "node:crypto";
import { lockConnection, unlockConnection } from "@/db/base/advisory-locks";
import type { Grant } from "@/db/depots/depots";
import { registerWriter, removeDeadWriters, removeWriter, type WriterKind } from "@/db/runs/writers";
import type { Services } from "@/server/base/services";

/**
 * Does work as a registered writer of a space. The registration lives as long as a connection to the database: whatever
 * ends the process ends it too. `work` gets the writer's id. Null for a purge or check beside another one of the space.
 */
export async function asWriter<T>(
  services: Services,
  grant: Pick<Grant, "clientId" | "spaceId">,
  kind: WriterKind,
  work: (writerId: string) => Promise<T>,
): Promise<T | null> {
  const id = randomUUID();
  const system = { role: "system" } as const;
  const connection = await services.db.pool.connect();
  let lost: Error | undefined;
  try {
    await lockConnection(connection, "writer", id);
    const registered = await services.db.withScope(system, async (tx) => {
      await removeDeadWriters(tx, grant.spaceId);
      return registerWriter(
        tx,
        { id, kind, clientId: grant.clientId, spaceId: grant.spaceId },
        services.now(),
      );
    });
    if (!registered) return null;
    try {
      return await work(id);
    } finally {
      // where this fails, the lock's end says the same
      await services.db.withScope(system, (tx) => removeWriter(tx, id)).catch(() => {});
    }
  } finally {
    await unlockConnection(connection, "writer", id).catch((error: Error) => {
      lost = error;
    });
    connection.release(lost);
  }
}
