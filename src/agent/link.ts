import type {
  EndReport,
  Job,
  LogReport,
  PointReport,
  ProgressReport,
  SystemReport,
} from "@/core/protocol/agent";

/**
 * What an agent asks of its console. Over HTTP in real life; the demo's months are lived through with a link that calls
 * the same functions of the server in one process. Errors are CodedErrors; `Superseded` when the run is another's now.
 */
export interface ConsoleLink {
  hello(system: SystemReport, started: boolean): Promise<void>;
  /** The next run for this machine; null after a while without one. */
  work(kinds: readonly ("backup" | "restore")[], signal: AbortSignal): Promise<Job | null>;
  heartbeat(runId: string, report: ProgressReport): Promise<{ stop: boolean }>;
  log(runId: string, lines: readonly LogReport[]): Promise<void>;
  known(runId: string, ids: readonly Uint8Array[]): Promise<boolean[]>;
  putPack(
    runId: string,
    packId: string,
    chunkIds: readonly Uint8Array[],
    parts: readonly Uint8Array[],
  ): Promise<void>;
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
}

/** The run ended, or another attempt has it: stop without a word. */
export class Superseded extends Error {
  constructor() {
    super("the run is not this attempt's any more");
    this.name = "Superseded";
  }
}
