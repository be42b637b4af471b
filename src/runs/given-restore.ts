import { randomUUID } from "node:crypto";
import type { ClientId, MachineId, SourceId } from "@/core/ids";
import { notify } from "@/db/base/notify";
import type { Tx } from "@/db/base/scope";
import { insertRun } from "@/db/runs/runs";
import { machineById } from "@/db/sources/machines";
import { isReachable, sourceById } from "@/db/sources/sources";
import { kindOf } from "@/kinds";
import { record, type Who } from "@/server/access/who";
import { invalid } from "@/server/base/problem";
import type { FoundItem } from "@/server/portal/given";
import { showBytes } from "@/store/tree/tree";
import type { StoredRestore } from "./request";

/**
 * A restore that one of a client's people asks for: to the machine or mailbox where it was, or to a folder there, and never
 * over anything.
 */
export interface GivenRestore {
  readonly stored: StoredRestore;
  readonly sourceId: SourceId;
  /** Null for a source that the runner reaches over the network. */
  readonly machineId: MachineId | null;
}

/** What a basket and a wish come to. Throws problems of the field. */
export async function plannedRestore(
  tx: Tx,
  items: readonly FoundItem[],
  /** A name below what was given; null for where things were. */
  folder: string | null,
): Promise<GivenRestore & { readonly to: string }> {
  const { gift } = items[0]!;
  const other = items.findIndex((item) => item.gift.sourceId !== gift.sourceId);
  if (other > 0)
    throw invalid(
      `items.${other}.giftId`,
      "These items come from several sources. Restore them one source at a time.",
    );
  const source = await sourceById(tx, gift.sourceId);
  if (source?.connectionId) {
    if (!(await isReachable(tx, source)))
      throw invalid("destination", `${source.name} cannot be reached any more. Download the items instead.`);
    const keepsBoth = kindOf(source.kind)?.clashes ?? false;
    return {
      stored: {
        items: items.map(({ point, path }) => ({ pointId: point.id.toString("hex"), path })),
        // files never leave what the person was given
        folder:
          folder === null
            ? null
            : keepsBoth
              ? folderBelow(gift.path, folder).slice(1)
              : namesIn(folder).join("/"),
        clash: keepsBoth ? "keep-both" : "skip",
        toSourceId: source.id,
        toName: source.name,
      },
      sourceId: source.id,
      machineId: null,
      to: source.name,
    };
  }
  const machine = await machineOf(tx, gift.sourceId);
  if (!machine)
    throw invalid("destination", "These items do not come from an enrolled machine. Download them instead.");
  return {
    stored: {
      items: items.map(({ point, path }) => ({ pointId: point.id.toString("hex"), path })),
      folder: folder === null ? null : folderBelow(gift.path, folder),
      clash: "keep-both",
    },
    sourceId: gift.sourceId,
    machineId: machine.id,
    to: machine.name,
  };
}

async function machineOf(tx: Tx, sourceId: SourceId) {
  const id = (await sourceById(tx, sourceId))?.machineId;
  const machine = id ? await machineById(tx, id) : null;
  return machine?.goneAt ? null : machine;
}

/** A folder below a path, from names that a person typed. */
function folderBelow(path: string, typed: string): string {
  const base = showBytes(path);
  if (Buffer.from(base, "utf8").toString("latin1") !== path)
    throw invalid(
      "destination.folder",
      "The name of this place cannot be written here: put things back where they were.",
    );
  return `${base === "/" ? "" : base}/${namesIn(typed).join("/")}`;
}

/** The names of folders that a person typed. */
function namesIn(typed: string): string[] {
  const names = typed.split("/").filter((name) => name.trim() !== "");
  if (names.length === 0) throw invalid("destination.folder", "Enter a name for the folder.");
  if (names.some((name) => name === "." || name === ".." || /\p{Cc}/u.test(name)))
    throw invalid("destination.folder", "Enter a name without “.”, “..” and control characters.");
  return names;
}

/** Makes the run. */
export async function startGivenRestore(
  tx: Tx,
  who: Who,
  person: { readonly id: string; readonly name: string; readonly clientId: ClientId },
  restore: GivenRestore,
  weight: { readonly files: number; readonly bytes: number },
  details: Record<string, unknown> = {},
): Promise<string> {
  const id = randomUUID();
  await insertRun(tx, {
    id,
    clientId: person.clientId,
    sourceId: restore.sourceId,
    machineId: restore.machineId,
    kind: "restore",
    cause: "person",
    requestedBy: person.name,
    dueAt: who.at,
    request: { ...restore.stored },
    personId: person.id,
    progress: { items: 0, bytes: 0, totalItems: weight.files, totalBytes: weight.bytes },
  });
  await record(tx, who, person.clientId, "requested a restore", "of shared files", {
    run: id,
    folder: restore.stored.folder,
    ...weight,
    items: restore.stored.items.slice(0, 50).map(({ pointId, path }) => ({ pointId, path: showBytes(path) })),
    ...details,
  });
  await notify(tx, { kind: "run", clientId: person.clientId, id, machineId: restore.machineId ?? undefined });
  return id;
}
