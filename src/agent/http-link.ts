import { setTimeout as pause } from "node:timers/promises";
import type { z } from "zod";
import { type Code, CodedError, isCode } from "@/core/codes";
import {
  AGENT_SOURCES,
  enrolAnswer,
  type enrolRequest,
  heartbeatAnswer,
  job,
  putWays,
  readWay,
} from "@/core/protocol/agent";
import { formatDuration } from "@/core/units/duration";
import { type ConsoleLink, Superseded } from "./link";
import { pacedBody } from "./pacer";

/** How long an agent keeps trying while its console does not answer; then the run fails and is taken up again later. */
const PATIENCE_MS = 15 * 60_000;
const FIRST_PAUSE_MS = 300;
const LONGEST_PAUSE_MS = 10_000;
/** A console that does not answer is reported after this time, and again each time the longer one has passed. */
const SILENCE_TOLD_MS = 30_000;
const SILENCE_AGAIN_MS = 5 * 60_000;

export interface LinkOptions {
  /** How long a call is repeated while the console does not answer. */
  readonly patienceMs?: number;
  /** Told, in a sentence, that the console has not answered for a while, and that it answers again. */
  readonly told?: (sentence: string) => void;
  readonly silenceReportedMs?: number;
}

interface Call {
  readonly method: "GET" | "POST" | "PUT";
  readonly path: string;
  readonly json?: unknown;
  readonly body?: () => BodyInit | ReturnType<typeof pacedBody>;
  readonly headers?: Record<string, string>;
  readonly signal?: AbortSignal;
  /** Give up at once when the console does not answer. */
  readonly once?: boolean;
}

/** An answer that was heard to its end. */
interface Heard {
  readonly response: Response;
  readonly content: Buffer;
}
const said = ({ content }: Heard): unknown => JSON.parse(content.toString("utf8"));

/** Speaks to a console over HTTP. Calls are repeated while it does not answer: each of them may be done twice. */
export class HttpLink implements ConsoleLink {
  private silentSince: number | null = null;
  private silenceReported: number | null = null;

  /** `address`: of the console; asked for each attempt anew, for it can change while the agent runs. */
  constructor(
    private readonly address: () => string,
    private readonly token: string | null,
    private readonly options: LinkOptions = {},
  ) {}

  private heard(consoleUrl: string): void {
    if (this.silenceReported !== null) this.options.told?.(`The console at ${consoleUrl} answers again.`);
    this.silentSince = this.silenceReported = null;
  }

  private noteSilence(consoleUrl: string, why: string): void {
    const now = performance.now();
    this.silentSince ??= now;
    const { told, silenceReportedMs = SILENCE_TOLD_MS } = this.options;
    const last = this.silenceReported;
    if (!told || (last === null ? now - this.silentSince < silenceReportedMs : now - last < SILENCE_AGAIN_MS))
      return;
    this.silenceReported = now;
    told(
      `The console at ${consoleUrl} has not answered for ${formatDuration(now - this.silentSince)} (${why}); the agent keeps trying. If the console has a new address, run: agent move --console URL`,
    );
  }

  private async call(call: Call): Promise<Heard> {
    const started = performance.now();
    const patience = this.options.patienceMs ?? PATIENCE_MS;
    for (let wait = FIRST_PAUSE_MS; ; wait = Math.min(wait * 2, LONGEST_PAUSE_MS)) {
      const consoleUrl = this.address();
      let why: string;
      try {
        const made = call.body?.();
        const paced = made && typeof made === "object" && "headers" in made ? made : null;
        const response = await fetch(new URL(`/agent/v1/${call.path}`, consoleUrl), {
          redirect: "manual",
          method: call.method,
          headers: {
            ...(this.token ? { authorization: `Bearer ${this.token}` } : {}),
            ...(call.json !== undefined ? { "content-type": "application/json" } : {}),
            ...call.headers,
            ...paced?.headers,
          },
          body:
            call.json !== undefined
              ? JSON.stringify(call.json)
              : paced
                ? paced.body
                : ((made as BodyInit | undefined) ?? null),
          ...(call.signal ? { signal: call.signal } : {}),
          ...({ duplex: "half" } as object),
        });
        // what is said is heard to its end here: a line that is cut half-way is asked again
        if (response.ok) {
          const content = Buffer.from(await response.arrayBuffer());
          this.heard(consoleUrl);
          return { response, content };
        }
        const elsewhere = response.headers.get("location");
        if (response.status < 400 && elsewhere) {
          // the token goes to no other address by itself: whoever answers here may not be the console any more
          await response.body?.cancel();
          const to = new URL(elsewhere, consoleUrl).origin;
          why = `it redirects to ${to}; if that is the console, run: agent move --console ${to}`;
          if (call.once) throw new CodedError("console.not-reached", `${consoleUrl}: ${why}`);
        } else {
          if (response.status < 500 || response.status === 507) {
            this.heard(consoleUrl);
            throw await problemOf(response);
          }
          await response.body?.cancel();
          why = `status ${response.status}`;
        }
      } catch (error) {
        if (error instanceof CodedError || error instanceof Superseded || call.signal?.aborted) throw error;
        // no connection, or it was cut: the console restarts perhaps
        why = reasonOf(error);
      }
      this.noteSilence(consoleUrl, why);
      if (call.once || performance.now() - started > patience)
        throw new CodedError("console.not-reached", `${consoleUrl} does not answer: ${why}`);
      await pause(wait, undefined, call.signal ? { signal: call.signal } : {});
    }
  }

  private post = (path: string, json: unknown, more: Partial<Call> = {}): Promise<Heard> =>
    this.call({ method: "POST", path, json, ...more });

  /** Asks the console once whether it knows this machine. */
  async probe(system: Parameters<ConsoleLink["hello"]>[0]): Promise<void> {
    await this.post("hello", { system, started: false }, { once: true });
  }

  async enrol(request: z.infer<typeof enrolRequest>): Promise<z.infer<typeof enrolAnswer>> {
    return enrolAnswer.parse(said(await this.post("enrol", request, { once: true })));
  }

  hello: ConsoleLink["hello"] = async (system, started) => {
    await this.post("hello", { system, started });
  };

  work: ConsoleLink["work"] = async (kinds, signal) => {
    const heard = await this.post("work", { kinds, sources: AGENT_SOURCES }, { signal });
    return heard.response.status === 204 ? null : job.parse(said(heard));
  };

  heartbeat: ConsoleLink["heartbeat"] = async (runId, report) =>
    heartbeatAnswer.parse(said(await this.post(`runs/${runId}/heartbeat`, report)));

  log: ConsoleLink["log"] = async (runId, lines) => {
    await this.post(`runs/${runId}/log`, { lines });
  };

  known: ConsoleLink["known"] = async (runId, ids) => {
    const { content } = await this.call({
      method: "POST",
      path: `runs/${runId}/known`,
      body: () => new Uint8Array(Buffer.concat(ids)),
    });
    return [...content].map(Boolean);
  };

  putPack: ConsoleLink["putPack"] = async (runId, packId, { ids, contentBytes }, parts, pacer) => {
    await this.call({
      method: "PUT",
      path: `runs/${runId}/packs/${packId}?chunks=${ids.length}&content=${contentBytes}`,
      body: () => pacedBody([...ids, ...parts], pacer),
      ...(pacer ? { signal: pacer.signal } : {}),
      headers: { "content-type": "application/octet-stream" },
    });
  };

  waysToPut: ConsoleLink["waysToPut"] = async (runId, packId) =>
    putWays.parse(said(await this.post(`runs/${runId}/packs/${packId}/ways`, {}))).ways;

  landed: ConsoleLink["landed"] = async (runId, packId, { ids, contentBytes }, depotIds) => {
    const heard = await this.call({
      method: "POST",
      path: `runs/${runId}/packs/${packId}/landed?content=${contentBytes}&depots=${depotIds.join(",")}`,
      body: () => new Uint8Array(Buffer.concat(ids)),
    });
    return (said(heard) as { complete: boolean }).complete;
  };

  putPoint: ConsoleLink["putPoint"] = async (runId, report) => {
    await this.post(`runs/${runId}/point`, report);
  };

  end: ConsoleLink["end"] = async (runId, report) => {
    await this.post(`runs/${runId}/end`, report);
  };

  locate: ConsoleLink["locate"] = async (runId, depotId, ids) => {
    const heard = await this.call({
      method: "POST",
      path: `runs/${runId}/depots/${depotId}/locate`,
      body: () => new Uint8Array(Buffer.concat(ids)),
    });
    return said(heard) as (string | null)[];
  };

  readPack: ConsoleLink["readPack"] = async (runId, depotId, packId, offset, length) => {
    const { response, content } = await this.call({
      method: "GET",
      path: `runs/${runId}/depots/${depotId}/packs/${packId}`,
      headers: length > 0 ? { range: `bytes=${offset}-${offset + length - 1}` } : {},
    });
    return { size: Number(response.headers.get("x-size")), bytes: content };
  };

  wayToRead: ConsoleLink["wayToRead"] = async (runId, depotId, packId) =>
    readWay.parse(said(await this.post(`runs/${runId}/depots/${depotId}/packs/${packId}/way`, {})));
}

/** Why a connection was not made, or broke: what the system says, below what `fetch` says. */
function reasonOf(error: unknown): string {
  const { cause, message } = error as Error & { cause?: { code?: string; message?: string } };
  return cause?.message || cause?.code || message;
}

/** A refusal of the console as an error. 409 on a run means that it ended or has another attempt. */
async function problemOf(response: Response): Promise<Error> {
  const problem = (await response.json().catch(() => ({}))) as { code?: string; detail?: string };
  if (problem.code === "request.conflict") return new Superseded();
  const code: Code = problem.code && isCode(problem.code) ? problem.code : "run.agent-error";
  return Object.assign(new CodedError(code), { message: problem.detail ?? `${response.status}` });
}
