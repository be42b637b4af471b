import { CodedError } from "@/core/codes";
import { showBytes } from "@/store/tree/tree";
import type { RestoreResult, RestoreWork } from "../network";
import { definitionOf, diskOf, guestOf } from "./browse";
import type { HypervisorHost } from "./host";

/** Names that hosts take. */
export const GUEST_NAME = /^[A-Za-z0-9][A-Za-z0-9 _.+-]{0,62}$/;

/**
 * Restores a guest: as a new one of the name that is given, or with its disks in place of the original's, which must be off.
 * What the original's disks were stays on the host. The guest is not started.
 */
export async function restoreGuest(
  host: HypervisorHost,
  original: string,
  work: RestoreWork,
): Promise<RestoreResult> {
  const [item, ...others] = work.items;
  if (!item || others.length > 0)
    throw new CodedError("restore.cannot-write", "choose one guest at one moment");
  if (item.path !== "/")
    throw new CodedError(
      "restore.cannot-write",
      `${showBytes(item.path)} is not a guest; choose the whole guest, or download the disk`,
    );
  const { store, root, path } = item;
  const description = await guestOf(store, root);
  if (!description)
    throw new CodedError(
      "not-found",
      "the recovery point has no description of a guest; it is not one of a guest",
    );
  const name = work.folder ?? description.name;
  if (!GUEST_NAME.test(name))
    throw new CodedError(
      "restore.cannot-write",
      `“${name}” is no name for a guest: up to 63 letters, digits, spaces and _ . + -, and a letter or digit first`,
    );
  const disks = [];
  for (const disk of description.disks) {
    const stored = await diskOf(store, root, disk.name);
    if (!stored) throw new CodedError("store.damaged", `the recovery point lacks the disk ${disk.name}`);
    disks.push({ name: disk.name, stored });
  }
  const bytes = disks.reduce((sum, { stored }) => sum + stored.storedBytes, 0);
  work.expect(1, bytes);
  const kept = await host.restore(
    {
      name,
      description,
      definition: await definitionOf(store, root),
      disks,
      replaces: work.folder === null ? original : null,
      start: work.start ?? false,
      runId: work.runId ?? "",
      log: (message) => work.log("info", null, path, message),
    },
    (passed) => {
      work.progress.bytes += passed;
    },
    work.signal,
  );
  for (const disk of kept)
    work.log(
      "info",
      null,
      path,
      `the disk that was there is kept: ${disk}; delete it when it is no longer needed`,
    );
  work.log(
    "info",
    null,
    path,
    work.start ? `${name} no longer needs the depot` : `restored as ${name}, powered off`,
  );
  work.progress.items += 1;
  return { files: 1, bytes, folders: 0, present: 0, cautions: 0 };
}
