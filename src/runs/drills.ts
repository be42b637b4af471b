import { createHash, randomUUID } from "node:crypto";
import { existsSync, mkdirSync, readdirSync, rmSync } from "node:fs";
import { join } from "node:path";
import type { ConsoleLink } from "@/agent/link";
import type { RunReporter } from "@/agent/reporter";
import { endReported } from "@/agent/work";
import { CodedError } from "@/core/codes";
import { type DrillFigures, drillPicks, drillPoint, drillSentence } from "@/core/drill/drill";
import type { ClientId, RunId, SourceId } from "@/core/ids";
import { formatBytes } from "@/core/units/bytes";
import { counted } from "@/core/units/duration";
import { notify } from "@/db/base/notify";
import type { Tx } from "@/db/base/scope";
import { clientById } from "@/db/clients/clients";
import { clientKey } from "@/db/clients/keys";
import { absenceNow } from "@/db/depots/absences";
import { type Depot, depotById } from "@/db/depots/depots";
import { placesOfPoint } from "@/db/points/copies";
import { type Point, pointsOf } from "@/db/points/points";
import { clientsWithDrills, countDrills, openDrill, sourcesToDrill } from "@/db/runs/drills";
import { claimRun, insertRun, nextClaimable, type Run, runById, setRequest } from "@/db/runs/runs";
import { sourceById } from "@/db/sources/sources";
import { compareWithDisk } from "@/kinds/files/compare";
import { freeAt } from "@/kinds/files/room";
import { type RestoreItem, restoreFiles } from "@/kinds/files/writer";
import { RUNNER, record, type Who } from "@/server/access/who";
import { isDatabaseAway, notFound, Problem } from "@/server/base/problem";
import type { Services } from "@/server/base/services";
import { momentText } from "@/server/inside/moment-label";
import { type Walked, walkTree } from "@/store/read/browse";
import type { ChunkReader } from "@/store/read/reader";
import { Identifier } from "@/store/seal/identity";
import { type Executor, machineScope } from "./agent-desk";
import { finishRun } from "./ending";
import { inProcessLink } from "./in-process-link";
import { LEASE_MS } from "./tick";

const system = { role: "system" } as const;
/** So many files are listed one by one in the log, with their check sums. */
const LISTED_MOST = 200;
/** So many drills are asked for by themselves at a time. */
const ASKED_MOST = 200;
/** What has to stay free beside a drill, bytes. */
const SPARE_BYTES = 64 * 1024 ** 2;

/** Asks for a drill of a source now. One that waits or goes on is enough. */
export async function requestDrill(tx: Tx, who: Who, sourceId: SourceId): Promise<Run> {
  const source = await sourceById(tx, sourceId);
  if (!source) throw notFound();
  const open = await openDrill(tx, sourceId);
  if (open) return (await runById(tx, open.id))!;
  if (!(await pointsOf(tx, sourceId)).some((point) => !point.droppedAt))
    throw new Problem(
      "request.conflict",
      `${source.name} has no recovery point yet: nothing can be drilled.`,
    );
  const key = await clientKey(tx, source.clientId);
  if (key?.destroyedAt) throw new Problem("key.destroyed");
  const id = randomUUID();
  const asked = who.actor === RUNNER.actor ? null : who.actor;
  await insertRun(tx, {
    id,
    clientId: source.clientId,
    sourceId,
    machineId: null,
    kind: "drill",
    cause: asked ? "person" : "schedule",
    requestedBy: asked,
    dueAt: who.at,
    request: {},
  });
  if (asked) await record(tx, who, source.clientId, "requested a drill", source.name, { run: id });
  await notify(tx, { kind: "run", clientId: source.clientId, id });
  return (await runById(tx, id))!;
}

/** Asks for the drills whose time has come, as Conduct says. A key that only a passphrase opens has to be open now. */
export async function requestDueDrills(services: Services): Promise<number> {
  const at = services.now();
  const due = await services.db.withScope(system, (tx) => sourcesToDrill(tx, at, ASKED_MOST));
  const open = new Map<string, boolean>();
  let asked = 0;
  for (const { id, clientId } of due) {
    if (!open.has(clientId)) open.set(clientId, await canOpen(services, clientId));
    if (!open.get(clientId)) continue;
    await services.db.withScope(system, (tx) => requestDrill(tx, { ...RUNNER, at }, id));
    asked += 1;
  }
  return asked;
}

async function canOpen(services: Services, clientId: ClientId): Promise<boolean> {
  try {
    await services.spaces.dataKey(clientId);
    return true;
  } catch (error) {
    if (error instanceof CodedError) return false;
    throw error;
  }
}

interface Chosen {
  readonly run: Run;
  readonly point: Point;
  readonly depot: Depot;
}

/** Does drills, one at a time: claimed, leased and reported like every run. */
export class DrillRuns {
  private running: Promise<void> | null = null;
  private stopped = false;

  constructor(
    private readonly services: Services,
    /** Where what is restored lies meanwhile. It holds clients' content in the clear, so it is emptied at once. */
    private readonly folder: string,
    /** Told what no drill can tell of itself; without it, who settles is told. */
    private readonly report: ((error: unknown) => void) | null = null,
  ) {}

  private swept = false;
  /** Takes away what drills left here whose runner was killed. */
  private async sweep(): Promise<void> {
    if (this.swept || !existsSync(this.folder)) return;
    this.swept = true;
    for (const id of readdirSync(this.folder)) {
      const run = isId(id) ? await this.services.db.withScope(system, (tx) => runById(tx, id)) : null;
      if (!run || run.state === "ended" || run.state === "due")
        rmSync(join(this.folder, id), { recursive: true, force: true });
    }
  }

  /** Begins the next drill that is due, unless one goes on. */
  async start(): Promise<boolean> {
    if (this.stopped || this.running) return false;
    await this.sweep();
    const clients = await this.services.db.withScope(system, (tx) =>
      clientsWithDrills(tx, this.services.now()),
    );
    for (const clientId of clients) {
      const executor: Executor = { id: null, clientId, name: "the runner", publicKey: Buffer.alloc(0) };
      const chosen = await this.claim(executor);
      if (!chosen) continue;
      this.running = this.execute(executor, chosen)
        .catch((error) => {
          if (!this.report) throw error;
          this.report(error);
        })
        .finally(() => {
          this.running = null;
        });
      return true;
    }
    return false;
  }

  /** Begins no other one. */
  stop(): void {
    this.stopped = true;
  }

  /** Resolves when nothing is running here. */
  async settled(): Promise<void> {
    await this.running;
  }

  /** The next drill of a client, with the point and the depot that it is about; null when there is none. */
  private claim(executor: Executor): Promise<Chosen | null> {
    const now = this.services.now();
    return this.services.db.withScope(machineScope(executor), async (tx) => {
      const run = await nextClaimable(tx, null, executor.clientId, ["drill"], null, now);
      if (!run || (await claimRun(tx, run.id, now, new Date(now.getTime() + LEASE_MS))) === 0) return null;
      const points = (await pointsOf(tx, run.sourceId)).filter((point) => !point.droppedAt);
      const before = await countDrills(tx, run.sourceId);
      if (points.length === 0) {
        const message = "The source has no recovery point any more.";
        await finishRun(tx, run, { outcome: "stopped", code: null, message, figures: {} }, now);
        return null;
      }
      const point = drillPoint(points, before, chanceOf(run.id, "point"));
      const depot = await depotFor(tx, point, Math.floor(before / 2), now);
      // the purge leaves alone what a run that goes on names
      await setRequest(tx, run.id, {
        items: [{ pointId: point.id.toString("hex"), path: "/" }],
        depotId: depot.id,
      });
      await notify(tx, { kind: "run", clientId: run.clientId, id: run.id });
      return { run: { ...run, attempt: run.attempt + 1 }, point, depot };
    });
  }

  private execute(executor: Executor, chosen: Chosen): Promise<void> {
    const link = inProcessLink(this.services, executor);
    const { run } = chosen;
    return endReported(
      link,
      { runId: run.id, attempt: run.attempt },
      (reporter) => this.drill(link, chosen, reporter),
      isDatabaseAway,
    );
  }

  private async drill(
    link: ConsoleLink,
    { run, point, depot }: Chosen,
    reporter: RunReporter,
  ): Promise<void> {
    const folder = join(this.folder, run.id);
    const figures = await this.restoreAndCompare(folder, { run, point, depot }, reporter).finally(() => {
      // before the run is reported as ended: from then on nothing in the clear is left
      rmSync(folder, { recursive: true, force: true });
    });
    await link.end(run.id, {
      attempt: run.attempt,
      outcome: figures.differing === 0 ? "clean" : "failed",
      code: figures.differing === 0 ? null : "drill.differs",
      message: null,
      figures: { ...figures },
    });
  }

  private async restoreAndCompare(
    folder: string,
    { run, point, depot }: Chosen,
    reporter: RunReporter,
  ): Promise<DrillFigures> {
    const began = this.services.now().getTime();
    const clock = performance.now();
    mkdirSync(folder, { recursive: true, mode: 0o700 });
    const keys = await this.services.spaces.keys(point.clientId);
    // of this one depot alone: another copy must not stand in for what this one lacks
    const store = await this.services.spaces.reader(point.clientId, depot.id);
    const { takes, whole } = drillPicks(point.bytes);
    const picked = whole ? null : await pick(store, point, run.id, takes);
    const bytes = picked ? picked.reduce((sum, { entry }) => sum + (entry.size ?? 0), 0) : point.bytes;
    const files = picked ? picked.length : point.files;
    const free = freeAt(folder);
    if (bytes + SPARE_BYTES > free)
      throw new CodedError(
        "restore.no-room",
        `the drill takes ${formatBytes(bytes)}, and ${formatBytes(free)} are free on the runner’s disk`,
      );
    const client = await this.services.db.withScope(system, (tx) => clientById(tx, point.clientId));
    const zone = client?.zone ?? "UTC";
    // restored once and read once
    reporter.expect(2 * files, 2 * bytes);
    reporter.log(
      "info",
      null,
      null,
      `The point of ${momentText(point.moment, zone)} (${zone}) is restored from ${depot.name}: ${whole ? "all of it" : `${files.toLocaleString("en-GB")} of its files by chance`}, ${formatBytes(bytes)}.`,
    );
    let differing = 0;
    const differs = (path: string, how: string) => {
      differing += 1;
      reporter.log("error", "drill.differs", path, how);
    };
    let owners = true;
    const items: RestoreItem[] = (picked ?? [{ path: "/" }]).map(({ path }) => ({
      root: point.root,
      momentLabel: "drill",
      path,
    }));
    await restoreFiles(items, {
      store,
      machineRoot: folder,
      folder: null,
      clash: "skip",
      note: (code, path, message) => {
        if (code === "restore.owner-not-set") owners = false;
        else differs(path, message);
      },
      progress: reporter.progress,
      signal: reporter.signal,
    });
    let listed = 0;
    const compared = await compareWithDisk(picked ?? walkTree(store, point.root, "/"), {
      store,
      chunkIds: new Identifier(keys.chunkId),
      folder,
      owners,
      differs,
      same: (path, size, digest) => {
        reporter.progress.items += 1;
        reporter.progress.bytes += size;
        listed += 1;
        if (listed <= LISTED_MOST) reporter.log("info", null, path, `${formatBytes(size)}, BLAKE3 ${digest}`);
      },
      signal: reporter.signal,
    });
    if (listed > LISTED_MOST)
      reporter.log("info", null, null, `and ${counted(listed - LISTED_MOST, "file")} more`);
    const figures: DrillFigures = {
      depotId: depot.id,
      depotName: depot.name,
      pointId: point.id.toString("hex"),
      moment: point.moment.toISOString(),
      ...compared,
      ofFiles: point.files,
      ofBytes: point.bytes,
      whole,
      differing,
      milliseconds: Math.max(Math.round(performance.now() - clock), this.services.now().getTime() - began),
    };
    reporter.log(
      "info",
      null,
      null,
      `${drillSentence(figures)}.${owners ? "" : " Owners were not compared: the runner may not set them."} BLAKE3 of the list of all files ${figures.evidence}`,
    );
    await reporter.flush();
    return figures;
  }
}

const isId = (text: string): boolean => /^[0-9a-f]{8}(-[0-9a-f]{4}){3}-[0-9a-f]{12}$/.test(text);

/** A number from 0 to below 1 that a drill and a name always give alike. */
const chanceOf = (runId: RunId, name: string): number =>
  createHash("sha256").update(`${runId}\0${name}`, "latin1").digest().readUInt32BE() / 2 ** 32;

/** The files of a point that a drill takes. */
async function pick(
  store: ChunkReader,
  point: Point,
  runId: RunId,
  takes: (chance: number, size: number) => boolean,
): Promise<Walked[]> {
  const picked: Walked[] = [];
  for await (const walked of walkTree(store, point.root, "/"))
    if (walked.entry.type === "file" && takes(chanceOf(runId, walked.path), walked.entry.size ?? 0))
      picked.push(walked);
  return picked;
}

/** The depot whose copy is proven: each that is there has its turn. */
async function depotFor(tx: Tx, point: Point, turn: number, now: Date): Promise<Depot> {
  const there: Depot[] = [];
  for (const id of await placesOfPoint(tx, point.id, now)) {
    const depot = await depotById(tx, id);
    if (depot && !(await absenceNow(tx, id, now))) there.push(depot);
  }
  const depot = there[turn % Math.max(1, there.length)] ?? (await depotById(tx, point.depotId));
  if (!depot) throw new CodedError("depot.not-reached", "no depot that holds the point is there");
  return depot;
}
