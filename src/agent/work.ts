import { CodedError } from "@/core/codes";
import type { Job } from "@/core/protocol/agent";
import { openSealed } from "@/store/seal/secrets";
import { backUpFiles, withCommands } from "./backup";
import { directLink } from "./direct";
import { type ConsoleLink, Superseded } from "./link";
import { RunReporter } from "./reporter";
import { restore } from "./restore";
import type { AgentState, Identity } from "./state";

/** Executes one job of a machine and reports its end, whatever it is. */
export const doJob = (
  link: ConsoleLink,
  job: Job,
  identity: Pick<Identity, "privateKey" | "root">,
  state: AgentState,
  commands = true,
  /** Errors that break the run off instead of failing it. */
  breaksOff?: (error: unknown) => boolean,
): Promise<void> =>
  carryOut(
    link,
    job,
    identity.privateKey,
    (dataKey, reporter) => {
      const way = job.direct.length ? directLink(link, job.direct, reporter) : link;
      return job.kind === "backup"
        ? withCommands(job, reporter, commands, () =>
            backUpFiles(way, job, dataKey, state, identity.root, reporter),
          )
        : restore(way, job, dataKey, state, identity.root, reporter);
    },
    breaksOff,
  );

/** Does the work of a job with the client's key and reports its end. */
export const carryOut = (
  link: ConsoleLink,
  job: Job,
  privateKey: string,
  work: (dataKey: Buffer, reporter: RunReporter) => Promise<void>,
  breaksOff?: (error: unknown) => boolean,
): Promise<void> =>
  endReported(
    link,
    job,
    (reporter) =>
      work(openSealed(Buffer.from(privateKey, "base64"), Buffer.from(job.sealedKey, "base64")), reporter),
    breaksOff,
  );

/**
 * Does the work of a run; whatever goes wrong becomes its outcome. Errors that break it off say nothing about the run: they
 * are thrown, and the run is taken up again when its lease has lapsed.
 */
export async function endReported(
  link: ConsoleLink,
  job: Pick<Job, "runId" | "attempt">,
  work: (reporter: RunReporter) => Promise<void>,
  breaksOff: (error: unknown) => boolean = () => false,
): Promise<void> {
  const reporter = new RunReporter(link, job.runId, job.attempt);
  try {
    await work(reporter);
  } catch (error) {
    if (error instanceof Superseded || reporter.signal.reason instanceof Superseded) return;
    if (breaksOff(error)) throw error;
    await reporter.flush();
    const { items, bytes } = reporter.progress;
    if (reporter.stopped) {
      await link.end(job.runId, {
        attempt: job.attempt,
        outcome: "stopped",
        code: reporter.why === "window" ? "run.window-over" : "run.stopped",
        message:
          reporter.why === "window"
            ? "The maximum duration was reached. The next run uses what was stored."
            : "Stopped by a person. What was stored is used by the next run.",
        figures: { items, bytes },
      });
      return;
    }
    const code = error instanceof CodedError ? error.code : "run.agent-error";
    const message = (error as Error).message ?? String(error);
    if (code === "run.agent-error") console.error(error);
    await link
      .end(job.runId, { attempt: job.attempt, outcome: "failed", code, message, figures: { items, bytes } })
      .catch((lost) => {
        if (!(lost instanceof Superseded)) throw lost;
      });
  } finally {
    reporter.close();
  }
}
