import { makePoint, type Reading } from "@/agent/backup";
import type { ConsoleLink } from "@/agent/link";
import type { RunReporter } from "@/agent/reporter";
import { carryOut } from "@/agent/work";
import { CodedError } from "@/core/codes";
import type { SourceId } from "@/core/ids";
import type { BackupJob, RestoreJob } from "@/core/protocol/agent";
import type { Selector } from "@/core/selection/selection";
import { counted } from "@/core/units/duration";
import { pointById } from "@/db/points/points";
import { clientsWithNetworkRuns } from "@/db/runs/runs";
import { connectionById } from "@/db/sources/connections";
import { sourceById } from "@/db/sources/sources";
import { KINDS, restoredWords } from "@/kinds";
import { networkAccess } from "@/kinds/server";
import { isDatabaseAway } from "@/server/base/problem";
import type { Services } from "@/server/base/services";
import type { PreviousTree } from "@/sources/store-source";
import { type ChunkReader, CopiesReader } from "@/store/read/reader";
import { splitIds } from "@/store/seal/identity";
import { makeKeyPair } from "@/store/seal/secrets";
import { decodeNode, idKey, showBytes } from "@/store/tree/tree";
import { type Executor, nextJob } from "./agent-desk";
import { opened } from "./connections";
import { inProcessLink } from "./in-process-link";

/** What the reader of a kind lists was selected by it. */
const EVERYTHING: Selector = { takesFolder: () => true, takesFile: () => true };

/** Runs of sources that are reached over the network: claimed, leased and reported like those of an agent. */
export class NetworkRuns {
  /** The client's key travels sealed inside one process too, so that a run is a run. */
  private readonly pair = makeKeyPair();
  private readonly running = new Set<Promise<void>>();

  constructor(
    private readonly services: Services,
    /** Told what no run can tell of itself; with it, each run that ends begins the next one without waiting for a tick. */
    private readonly report: ((error: unknown) => void) | null = null,
    private readonly atOnce = 2,
  ) {}

  /** Starts as many due runs as there is room for; each that ends makes room for the next. */
  start(): Promise<number> {
    // one looks for all: whoever asks meanwhile gets its answer
    this.starting ??= this.fill().finally(() => {
      this.starting = null;
    });
    return this.starting;
  }
  private starting: Promise<number> | null = null;

  private async fill(): Promise<number> {
    if (this.stopped || this.running.size >= this.atOnce) return 0;
    let started = 0;
    const clients = await this.services.db.withScope({ role: "system" }, (tx) =>
      clientsWithNetworkRuns(tx, this.services.now()),
    );
    for (const clientId of clients) {
      while (this.running.size < this.atOnce) {
        const executor: Executor = { id: null, clientId, name: "the runner", publicKey: this.pair.publicKey };
        const job = await nextJob(this.services, executor, ["backup", "restore"]);
        if (!job) break;
        // without a report, who settles is told
        const work = this.execute(executor, job)
          .catch((error) => {
            if (!this.report) throw error;
            this.report(error);
          })
          .finally(() => {
            this.running.delete(work);
            if (this.report) this.start().catch(this.report);
          });
        this.running.add(work);
        started += 1;
      }
    }
    return started;
  }

  private stopped = false;

  /** Begins no other run. */
  stop(): void {
    this.stopped = true;
  }

  /** Resolves when nothing is running here. */
  async settled(): Promise<void> {
    await Promise.all(this.running);
  }

  private execute(executor: Executor, job: BackupJob | RestoreJob): Promise<void> {
    const link = inProcessLink(this.services, executor);
    return carryOut(
      link,
      job,
      this.pair.privateKey.toString("base64"),
      async (dataKey, reporter) => {
        if (job.kind === "restore") await this.restore(link, executor, job, reporter);
        else {
          const reading = await this.readingOf(job, reporter);
          // also where nothing is read
          await makePoint(link, job, dataKey, reporter, reading).finally(() => reading.reader.end?.());
        }
      },
      isDatabaseAway,
    );
  }

  /** Puts items of recovery points back into a source of the same client. */
  private async restore(
    link: ConsoleLink,
    { clientId }: Executor,
    job: RestoreJob,
    reporter: RunReporter,
  ): Promise<void> {
    const { connection, source } = await this.reached(job.toSourceId);
    if (source.clientId !== clientId) throw new CodedError("not-found", "the target is another client's");
    const { spaces } = this.services;
    const items = [];
    for (const { root, path, depotIds, momentLabel } of job.items)
      items.push({
        store: new CopiesReader(await Promise.all(depotIds.map((id) => spaces.reader(clientId, id)))),
        root: Buffer.from(root, "hex"),
        path: Buffer.from(path, "base64").toString("latin1"),
        momentLabel,
      });
    const {
      present,
      cautions,
      keptBoth = 0,
      replaced = 0,
      ...put
    } = await networkAccess(connection.kind).restore(opened(this.services, connection), source.remoteId, {
      items,
      folder: job.folder,
      clash: job.clash,
      table: job.table,
      start: job.start,
      runId: job.runId,
      expect: (count, bytes) => reporter.expect(count, bytes),
      log: (level, code, path, message) => reporter.log(level, code, path && showBytes(path), message),
      progress: reporter.progress,
      signal: reporter.signal,
    });
    const { one: item, many } = restoredWords(KINDS[connection.kind]);
    if (cautions > 0 && put.files + present === 0)
      throw new CodedError(
        "restore.cannot-write",
        "No item could be restored. The log gives the reason for each item.",
      );
    reporter.log(
      "info",
      null,
      null,
      [
        `${counted(put.files, item, many)} restored to ${source.name}`,
        ...(put.folders > 0 ? [`${counted(put.folders, "folder")} created`] : []),
        ...(present > 0 ? [`${present.toLocaleString("en-GB")} there already`] : []),
      ].join("; "),
    );
    await reporter.flush();
    await link.end(job.runId, {
      attempt: job.attempt,
      outcome: cautions > 0 ? "caution" : "clean",
      code: cautions > 0 ? "restore.message-rejected" : null,
      message: null,
      figures: { ...put, links: 0, keptBoth, replaced, skipped: present, cautions },
    });
  }

  /** A source that is reached over the network, with its connection. */
  private async reached(sourceId: SourceId | null) {
    const { source, connection } = await this.services.db.withScope({ role: "system" }, async (tx) => {
      const found = sourceId ? await sourceById(tx, sourceId) : null;
      return {
        source: found,
        connection: found?.connectionId ? await connectionById(tx, found.connectionId) : null,
      };
    });
    if (!source?.remoteId || !connection) throw new CodedError("not-found", "the connection was removed");
    return { source: { ...source, remoteId: source.remoteId }, connection };
  }

  private async previousOf(pointId: string): Promise<ChunkReader> {
    const point = await this.services.db.withScope({ role: "system" }, (tx) =>
      pointById(tx, Buffer.from(pointId, "hex")),
    );
    if (!point) throw new CodedError("not-found", "the point before was purged in the meantime");
    return this.services.spaces.ofPoint(point);
  }

  private async readingOf(job: BackupJob, reporter: RunReporter): Promise<Reading> {
    const { source, connection } = await this.reached(job.sourceId);
    const before = job.previous && {
      store: await this.previousOf(job.previous.pointId),
      root: Buffer.from(job.previous.root, "hex"),
    };
    const previous = before && (await loadTree(before.store, before.root));
    const what = job.clauses.what[connection.kind];
    if (!what)
      throw new CodedError(
        "request.conflict",
        `the policy does not name ${KINDS[connection.kind].sources} in its What`,
      );
    const { reader, folders, reset, notes } = await networkAccess(connection.kind).open(
      opened(this.services, connection),
      source.remoteId,
      what,
      { sourceId: source.id, previous: before },
    );
    for (const note of notes ?? []) reporter.log("info", null, null, note);
    return {
      reader,
      folders,
      chosen: folders,
      selector: EVERYTHING,
      previous,
      resetMessage: reset ?? null,
      keepNode: () => {},
    };
  }
}

/** The whole tree of a recovery point in memory: what the network reaches is read by folder, and its trees are small. */
async function loadTree(reader: ChunkReader, root: Uint8Array): Promise<PreviousTree> {
  const nodes = new Map<string, Uint8Array>();
  const load = async (id: Uint8Array): Promise<void> => {
    const key = idKey(id);
    if (nodes.has(key)) return;
    const bytes = await reader.rawNode(id);
    nodes.set(key, bytes);
    const node = decodeNode(bytes);
    if (node.kind === "pages") for (const page of node.pages) await load(page.node);
    if (node.kind === "folder")
      for (const entry of node.entries) {
        if (entry.node) await load(entry.node);
        // of disks, what did not change is taken over from there
        if (entry.chunkBytes && entry.chunkPages)
          for (const page of splitIds(entry.chunkPages)) await load(page);
      }
  };
  await load(root);
  return { root, bytes: (id) => nodes.get(idKey(id))! };
}
