import type {
  DirectWay,
  EndReport,
  HeartbeatAnswer,
  Job,
  LogReport,
  PointReport,
  ProgressReport,
  SystemReport,
} from "@/core/protocol/agent";
import type { PackHolds } from "@/store/packs/pack";
import type { Pacer } from "./pacer";

/**
 * What an agent asks of its console. Over HTTP in real life; the demo's months are lived through with a link that calls
 * the same functions of the server in one process. Errors are CodedErrors; `Superseded` when the run is another's now.
 */
export interface ConsoleLink {
  hello(system: SystemReport, started: boolean): Promise<void>;
  /** The next run for this machine; null after a while without one. */
  work(kinds: readonly ("backup" | "restore")[], signal: AbortSignal): Promise<Job | null>;
  heartbeat(runId: string, report: ProgressReport): Promise<HeartbeatAnswer>;
  log(runId: string, lines: readonly LogReport[]): Promise<void>;
  known(runId: string, ids: readonly Uint8Array[]): Promise<boolean[]>;
  /** With a pacer the pack is sent at its rate. */
  putPack(
    runId: string,
    packId: string,
    holds: PackHolds,
    parts: readonly Uint8Array[],
    pacer?: Pacer,
  ): Promise<void>;
  /** Ways past the console for a pack that is to be put; none where all depots have it or want it through the console. */
  waysToPut(runId: string, packId: string): Promise<DirectWay[]>;
  /** Tells that a pack lies in these depots; the console looks, and takes it into its index. True when no depot of the run lacks it. */
  landed(runId: string, packId: string, holds: PackHolds, depotIds: readonly string[]): Promise<boolean>;
  putPoint(runId: string, report: PointReport): Promise<void>;
  end(runId: string, report: EndReport): Promise<void>;
  locate(runId: string, depotId: string, ids: readonly Uint8Array[]): Promise<(string | null)[]>;
  readPack(
    runId: string,
    depotId: string,
    packId: string,
    offset: number,
    length: number,
  ): Promise<{ size: number; bytes: Buffer }>;
  /** The size of a pack, and the way past the console if there is one. */
  wayToRead(runId: string, depotId: string, packId: string): Promise<{ size: number; way: DirectWay | null }>;
}

/** The run ended, or another attempt has it: stop without a word. */
export class Superseded extends Error {
  constructor() {
    super("the run is not this attempt's any more");
    this.name = "Superseded";
  }
}
