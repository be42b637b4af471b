import { randomBytes } from "node:crypto";
import { existsSync } from "node:fs";
import { join } from "node:path";
import { type Code, CodedError } from "@/core/codes";
import type { BackupJob } from "@/core/protocol/agent";
import { foldersOn } from "@/core/selection/known-places";
import { compileSelection, type Selector } from "@/core/selection/selection";
import { counted } from "@/core/units/duration";
import { homesOn } from "@/kinds/files/homes";
import { readAhead } from "@/kinds/files/listing-ahead";
import { FilesReader } from "@/kinds/files/reader";
import { takeVolumeSnapshot, type VolumeSnapshot } from "@/kinds/files/volume-snapshot";
import type { FileWhat } from "@/kinds/files/what";
import type { SourceReader } from "@/sources/reader";
import { type PreviousTree, storeSource } from "@/sources/store-source";
import { deriveStoreKeys } from "@/store/seal/keys";
import { OBJECT_ID_BYTES } from "@/store/seal/sealing";
import { sealPoint } from "@/store/tree/point";
import { StoreWriter } from "@/store/write/writer";
import { runCommand } from "./command";
import type { ConsoleLink } from "./link";
import type { RunReporter } from "./reporter";
import type { AgentState } from "./state";

/** These say what happened without making the run less than clean. */
const MERE_NOTES: ReadonlySet<Code> = new Set(["file.special"]);

/**
 * Runs the commands of Conduct around the making of a point. What fails afterwards cannot take the point back: then it is
 * told in the log of a run that has ended already, or of one that failed anyway.
 */
export async function withCommands(
  job: BackupJob,
  reporter: RunReporter,
  allowed: boolean,
  work: () => Promise<void>,
): Promise<void> {
  const { before, after } = job.clauses.conduct;
  const about = { sourceName: job.sourceName, runId: job.runId };
  if (before && !(await runCommand(before, { ...about, moment: "before" }, reporter, allowed)))
    reporter.commandCautions += 1;
  reporter.beforeClosing = async () => {
    if (after && !(await runCommand(after, { ...about, moment: "after" }, reporter, allowed)))
      reporter.commandCautions += 1;
  };
  try {
    await work();
  } finally {
    // a run that failed or was stopped must still set free what the first command held
    await reporter
      .closeOnce()
      .catch((error: Error) => reporter.log("error", "command.failed", null, error.message));
  }
}

/** What a recovery point is made from: a reader of the source, and what is known of the point before. */
export interface Reading {
  readonly reader: SourceReader;
  readonly folders: readonly string[];
  /** The folders as the policy names them. */
  readonly chosen: readonly string[];
  readonly selector: Selector;
  readonly previous: PreviousTree | null;
  /** Why an earlier point's tree cannot be used, when there is one. */
  readonly resetMessage: string | null;
  readonly keepNode: (id: Uint8Array, bytes: Uint8Array | null) => void;
}

/** The chosen folders of this machine: of places known by a word those that are there, of paths all. */
function existingOf(folders: readonly string[], root: string): string[] {
  const paths = new Set(folders);
  return foldersOn(folders, homesOn(root)).filter((path) => paths.has(path) || existsSync(join(root, path)));
}

/** What the policy protects of the machine's files. */
function whatOf({ clauses }: BackupJob): FileWhat {
  if (!clauses.what.files)
    throw new CodedError("request.conflict", "the policy does not name files of machines in its What");
  return clauses.what.files;
}

/** Makes one recovery point of this machine's files, and remembers its tree for the next. */
export async function backUpFiles(
  link: ConsoleLink,
  job: BackupJob,
  dataKey: Buffer,
  state: AgentState,
  root: string,
  reporter: RunReporter,
): Promise<void> {
  const previous = job.previous ? state.openTree(job.sourceId, Buffer.from(job.previous.root, "hex")) : null;
  const memory = state.newTree(job.sourceId, previous);
  const what = whatOf(job);
  const folders = existingOf(what.folders, root);
  let still: VolumeSnapshot | null = null;
  try {
    still = await snapshotFirst(job, folders, state, root, reporter);
    const tree = await makePoint(link, job, dataKey, reporter, {
      reader: readerOf(what, root, folders, state, previous !== null, still),
      folders,
      chosen: what.folders,
      selector: compileSelection(what, new Date(job.moment)),
      previous,
      resetMessage: job.previous && !previous ? "No file is known to be unchanged, so all are read." : null,
      keepNode: (id, bytes) => memory.keep(id, bytes),
    });
    memory.commit(tree);
  } catch (error) {
    memory.discard();
    throw error;
  } finally {
    await still?.release();
  }
}

/**
 * A run that knows the point before spends its time on looking: a thread does that ahead of it. A first run has its threads
 * busy with content; and where volumes stand still, a file may have to be looked at in another one than its folder is in.
 */
function readerOf(
  what: FileWhat,
  root: string,
  folders: readonly string[],
  state: AgentState,
  knowing: boolean,
  still: VolumeSnapshot | null,
): FilesReader {
  const passOver = [state.folder];
  return knowing && !still
    ? readAhead({ root, passOver, folders, what })
    : new FilesReader(root, passOver, still?.at);
}

/** Lets the volumes stand still first, as Conduct says. Throws `snapshot.not-possible` where it has to be and cannot. */
async function snapshotFirst(
  job: BackupJob,
  folders: readonly string[],
  state: AgentState,
  root: string,
  reporter: RunReporter,
): Promise<VolumeSnapshot | null> {
  const { snapshot } = job.clauses.conduct;
  if (snapshot === "none") return null;
  const there = folders.map((folder) => join(root, folder)).filter((path) => existsSync(path));
  const still = await takeVolumeSnapshot(there, job.runId, state.snapshots);
  for (const volume of still.still) reporter.log("info", null, null, `${volume}: reading from a snapshot.`);
  const [first] = still.moving;
  if (first && snapshot === "required") {
    await still.release();
    throw new CodedError(
      "snapshot.not-possible",
      still.moving.map(({ volume, why }) => `${volume}: ${why}`).join("; "),
    );
  }
  for (const { volume, why } of still.moving)
    reporter.log("info", null, null, `${volume} is read as it is: ${why}.`);
  return still.still.length ? still : null;
}

/**
 * Makes one recovery point and hands it to the console, which sees sealed packs and ids, never content or names. Returns
 * the root of its tree.
 */
export async function makePoint(
  link: ConsoleLink,
  job: BackupJob,
  dataKey: Buffer,
  reporter: RunReporter,
  reading: Reading,
): Promise<Uint8Array> {
  const keys = deriveStoreKeys(dataKey);
  // before the first byte leaves, the rate is known
  await reporter.beat();
  const writer = new StoreWriter(
    keys,
    {
      known: (ids) => (job.spaceEmpty ? Promise.resolve(ids.map(() => false)) : link.known(job.runId, ids)),
      putPack: (packId, parts, holds) =>
        link.putPack(job.runId, packId.toString("hex"), holds, parts, reporter.pacer),
    },
    job.clauses.conduct.compression,
  );
  let cautions = 0;
  let telling: Code | null = null;
  const note = (code: Code, path: string | null, message: string) => {
    const mere = MERE_NOTES.has(code);
    if (!mere) {
      cautions += 1;
      telling ??= code;
    }
    reporter.log(mere ? "info" : "caution", code, path, message);
  };
  if (reading.resetMessage) note("change-tracking.reset", null, reading.resetMessage);
  if (job.previous) reporter.expect(job.previous.items, job.previous.bytes);
  if (reading.folders.length === 0)
    throw new CodedError("selection.empty", `none of ${reading.chosen.join(", ")} is there`);
  const {
    root: tree,
    counts,
    figures,
  } = await storeSource({
    reader: reading.reader,
    writer,
    keys,
    folders: reading.folders,
    selector: reading.selector,
    previous: reading.previous,
    readAll: job.pass === "full",
    keepNode: reading.keepNode,
    note,
    progress: reporter.progress,
    signal: reporter.signal,
  });
  if (
    counts.files + counts.links === 0 &&
    counts.folders <= reading.folders.length &&
    cautions > 0 &&
    telling === "folder.missing"
  ) {
    throw new CodedError("selection.empty", `none of ${reading.folders.join(", ")} is there`);
  }
  const stored = await writer.close();
  reporter.stored(() => stored.storedBytes);
  const pointId = randomBytes(OBJECT_ID_BYTES);
  const object = sealPoint(keys, pointId, {
    sourceId: job.sourceId,
    sourceName: job.sourceName,
    machineName: job.machineName,
    kind: job.sourceKind,
    moment: Date.parse(job.moment),
    root: tree,
    counts,
    previous: job.previous ? Buffer.from(job.previous.pointId, "hex") : null,
    policy: JSON.stringify(job.clauses),
    policyName: job.policyName,
    client: job.client,
    siteName: job.siteName,
  });
  reporter.log(
    "info",
    null,
    null,
    `${counted(counts.files, "file")}, ${figures.filesRead} of them read, ${counted(stored.newChunks, "new chunk")} in ${counted(stored.packs, "pack")}.`,
  );
  await reporter.closeOnce();
  if (reporter.commandCautions > 0) telling ??= "command.failed";
  await reporter.flush();
  await link.putPoint(job.runId, {
    attempt: job.attempt,
    pointId: pointId.toString("hex"),
    object: object.toString("base64"),
    root: Buffer.from(tree).toString("hex"),
    counts,
    figures: { ...figures, ...stored },
    cautions: cautions + reporter.commandCautions,
    code: telling,
  });
  return tree;
}
