import { dirname, join } from "node:path";
import { CodedError } from "@/core/codes";
import type { RestoreJob } from "@/core/protocol/agent";
import { formatBytes } from "@/core/units/bytes";
import { counted } from "@/core/units/duration";
import { freeAt } from "@/kinds/files/room";
import { type RestoreFigures, restoreFiles } from "@/kinds/files/writer";
import { CopiesReader, StoreReader } from "@/store/read/reader";
import { deriveStoreKeys } from "@/store/seal/keys";
import { type ByteString, showBytes } from "@/store/tree/tree";
import type { ConsoleLink } from "./link";
import type { RunReporter } from "./reporter";
import type { AgentState } from "./state";

/** So many files are listed one by one in the log, with their check sums. */
const LISTED_MOST = 1000;

/** Throws `restore.no-room` before anything is written. What is replaced or skipped may need less; it is not counted off. */
function refuseWithoutRoom(job: RestoreJob, root: string): void {
  const first = job.items[0];
  if (job.totalBytes === null || !first) return;
  const folder = job.folder ?? dirname(showBytes(Buffer.from(first.path, "base64").toString("latin1")));
  const free = freeAt(join(root, folder));
  if (job.totalBytes > free)
    throw new CodedError(
      "restore.no-room",
      `${formatBytes(job.totalBytes)} are to be restored, and ${formatBytes(free)} are free at ${folder}`,
    );
}

/** Restores to this machine. Packs are fetched from the console sealed, and opened here. */
export async function restore(
  link: ConsoleLink,
  job: RestoreJob,
  dataKey: Buffer,
  state: AgentState,
  root: string,
  reporter: RunReporter,
): Promise<void> {
  const goesOnSince = state.beginRestore(job.runId, job.attempt, new Date());
  // what a broken attempt put in place takes no room again
  if (!goesOnSince) refuseWithoutRoom(job, root);
  const keys = deriveStoreKeys(dataKey);
  const readers = new Map<string, StoreReader>();
  const readerOf = (depotId: string): StoreReader => {
    let reader = readers.get(depotId);
    if (!reader) {
      reader = new StoreReader(
        keys,
        {
          locate: (ids) => link.locate(job.runId, depotId, ids),
          open: async (packId) => {
            const { size } = await link.readPack(job.runId, depotId, packId, 0, 0);
            return {
              size,
              read: async (offset, length) =>
                (await link.readPack(job.runId, depotId, packId, offset, length)).bytes,
            };
          },
        },
        true,
      );
      readers.set(depotId, reader);
    }
    return reader;
  };
  let listed = 0;
  let cautions = 0;
  let code: string | null = null;
  const total: RestoreFigures = {
    files: 0,
    folders: 0,
    links: 0,
    bytes: 0,
    keptBoth: 0,
    replaced: 0,
    skipped: 0,
  };
  const firstNames = new Map<string, ByteString>();
  for (const item of job.items) {
    const figures = await restoreFiles(
      [
        {
          root: Buffer.from(item.root, "hex"),
          momentLabel: item.momentLabel,
          path: Buffer.from(item.path, "base64").toString("latin1"),
        },
      ],
      {
        store: new CopiesReader(item.depotIds.map(readerOf)),
        machineRoot: root,
        folder: job.folder,
        clash: job.clash,
        note: (noted, path, message) => {
          cautions += 1;
          code ??= noted;
          reporter.log("caution", noted, path, message);
        },
        restored: (path, size, digest) => {
          listed += 1;
          if (listed <= LISTED_MOST)
            reporter.log("info", null, path, `${formatBytes(size)}${digest ? `, BLAKE3 ${digest}` : ""}`);
        },
        wantsDigest: () => listed < LISTED_MOST,
        goesOnSince,
        firstNames,
        mark: job.runId,
        progress: reporter.progress,
        signal: reporter.signal,
      },
    );
    for (const key of Object.keys(total) as (keyof RestoreFigures)[]) total[key] += figures[key];
  }
  const { files, folders, links } = total;
  if (listed > LISTED_MOST)
    reporter.log("info", null, null, `and ${counted(listed - LISTED_MOST, "file")} more`);
  if (cautions > 0 && files + folders + links === 0)
    throw new CodedError(
      "restore.cannot-write",
      "No item could be restored. The log gives the reason for each item.",
    );
  reporter.log(
    "info",
    null,
    null,
    `${counted(files, "file")}, ${counted(folders, "folder")} and ${counted(links, "link")} restored; ${total.keptBoth} kept beside others, ${total.replaced} replaced, ${total.skipped} skipped.`,
  );
  await reporter.flush();
  await link.end(job.runId, {
    attempt: job.attempt,
    outcome: cautions > 0 ? "caution" : "clean",
    code,
    message: null,
    figures: { ...total, cautions },
  });
  state.endRestore(job.runId);
}
