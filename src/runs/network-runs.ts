import { makePoint, type Reading } from "@/agent/backup";
import { carryOut } from "@/agent/work";
import { CodedError } from "@/core/codes";
import type { BackupJob } from "@/core/protocol/agent";
import { pointById } from "@/db/points/points";
import { clientsWithNetworkRuns } from "@/db/runs/runs";
import { connectionById } from "@/db/sources/connections";
import { sourceById } from "@/db/sources/sources";
import { NETWORK_ACCESS } from "@/kinds/server";
import { isDatabaseAway } from "@/server/base/problem";
import type { Services } from "@/server/base/services";
import type { PreviousTree } from "@/sources/store-source";
import type { ChunkReader } from "@/store/read/reader";
import { makeKeyPair } from "@/store/seal/secrets";
import { decodeNode, idKey } from "@/store/tree/tree";
import { type Executor, nextJob } from "./agent-desk";
import { opened } from "./connections";
import { inProcessLink } from "./in-process-link";

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
        const job = await nextJob(this.services, executor, ["backup"]);
        if (job?.kind !== "backup") break;
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

  private execute(executor: Executor, job: BackupJob): Promise<void> {
    const link = inProcessLink(this.services, executor);
    return carryOut(
      link,
      job,
      this.pair.privateKey.toString("base64"),
      async (dataKey, reporter) => {
        await makePoint(link, job, dataKey, reporter, await this.readingOf(job));
      },
      isDatabaseAway,
    );
  }

  private async previousOf(pointId: string): Promise<ChunkReader> {
    const point = await this.services.db.withScope({ role: "system" }, (tx) =>
      pointById(tx, Buffer.from(pointId, "hex")),
    );
    if (!point) throw new CodedError("not-found", "the point before was purged in the meantime");
    return this.services.spaces.ofPoint(point);
  }

  private async readingOf(job: BackupJob): Promise<Reading> {
    const { source, connection } = await this.services.db.withScope({ role: "system" }, async (tx) => {
      const found = await sourceById(tx, job.sourceId);
      return {
        source: found,
        connection: found?.connectionId ? await connectionById(tx, found.connectionId) : null,
      };
    });
    if (!source?.remoteId || !connection) throw new CodedError("not-found", "the connection was removed");
    const previous = job.previous
      ? await loadTree(await this.previousOf(job.previous.pointId), Buffer.from(job.previous.root, "hex"))
      : null;
    return {
      reader: await NETWORK_ACCESS[connection.kind].open(opened(this.services, connection), source.remoteId),
      folders: job.clauses.what.folders,
      previous,
      resetMessage: null,
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
    if (node.kind === "folder") for (const entry of node.entries) if (entry.node) await load(entry.node);
  };
  await load(root);
  return { root, bytes: (id) => nodes.get(idKey(id))! };
}
