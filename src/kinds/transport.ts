import { setTimeout as sleep } from "node:timers/promises";
import { CodedError } from "@/core/codes";
import { fetchAllowed } from "@/store/places/reach";

/** No byte for so long, and the far end counts as silent. A long message on a thin link may take any time. */
const SILENCE_MS = 30_000;
const ATTEMPTS = 5;
const FIRST_PAUSE_MS = 500;
/** The longest pause that a server may ask for (Retry-After, RFC 9110, section 10.2.3). */
const LONGEST_PAUSE_MS = 60_000;
const MOST_REDIRECTS = 5;
/** Refusals that pass: too many requests, or a server that is busy or restarts. */
const PASSING = new Set([408, 425, 429, 500, 502, 503, 504]);
/** Those of them by which the server did nothing. */
const REFUSED = new Set([425, 429, 503]);

/** Methods that read, and may be led elsewhere. */
const FOLLOWING: ReadonlySet<string> = new Set(["GET", "PROPFIND", "REPORT"]);

export interface Answered {
  readonly status: number;
  readonly headers: Headers;
  readonly body: Buffer;
  /** Where the answer came from, after redirects. */
  readonly url: string;
}

/** Whether the server answered, and the answer ended early: it is reached, but what was asked for does not arrive. */
export const brokeOff = (error: unknown): error is CodedError =>
  error instanceof CodedError && error.code === "source.not-reached" && error.cause === "begun";

export interface Asked {
  /** GET where it is not given. */
  readonly method?: string;
  readonly headers?: Readonly<Record<string, string>>;
  readonly body?: string | Uint8Array<ArrayBuffer>;
  /** Instead of a body: content that is sent part by part, from its beginning for each attempt; with a `content-length`. */
  readonly content?: () => AsyncIterable<Uint8Array>;
  /**
   * When the call may be repeated: always (reading, also by POST), never, or only after a refusal by which the server did
   * nothing; what was lost on the way may have been done.
   */
  readonly again?: "always" | "refused" | "never";
  /** False: an answer that redirects is the answer. Only what reads is led elsewhere. */
  readonly redirects?: boolean;
  /** What in an answer says that it is a refusal that passes, although its status does not. */
  readonly passing?: (answer: Answered) => boolean;
}

/** How far a call that fails is repeated; tests shorten the pauses. */
export interface Patience {
  readonly attempts: number;
  readonly firstPauseMs: number;
  readonly silenceMs: number;
}
export const PATIENCE: Patience = { attempts: ATTEMPTS, firstPauseMs: FIRST_PAUSE_MS, silenceMs: SILENCE_MS };

/** An answer whose content arrives as it is read. */
export interface Streamed {
  readonly status: number;
  readonly headers: Headers;
  /** Throws `source.not-reached` when it falls silent or ends early. */
  readonly content: AsyncGenerator<Buffer, void>;
}

/**
 * HTTP to a server of a client: whole answers or streams, silence noticed, refusals that pass repeated with growing pauses. Credentials go to
 * the server's own host, and to hosts that a technician confirmed, never where a redirect or the server's words lead.
 */
export class HttpTransport {
  private readonly trusted: ReadonlySet<string>;
  private readonly secure: boolean;

  constructor(
    address: string,
    otherHosts: readonly string[],
    private readonly patience: Patience = PATIENCE,
  ) {
    const { hostname, protocol } = new URL(address);
    this.trusted = new Set([hostname, ...otherHosts].map((host) => host.toLowerCase()));
    this.secure = protocol === "https:";
  }

  /** Throws `source.other-host` for an address that our credentials must not go to. */
  confirm(url: string): void {
    const { hostname, protocol } = new URL(url);
    if (!this.trusted.has(hostname.toLowerCase()))
      throw new CodedError("source.other-host", `the server names ${hostname}`);
    if (this.secure && protocol !== "https:")
      throw new CodedError("source.other-host", `the server leads away from TLS, to ${url}`);
  }

  /** Asks once, or again where that helps. Throws `source.not-reached` when no answer came. */
  async ask(url: string, asked: Asked = {}): Promise<Answered> {
    const again = asked.again ?? "always";
    for (let attempt = 1; ; attempt += 1) {
      let pause = this.patience.firstPauseMs * 2 ** (attempt - 1);
      try {
        const answer = await this.follow(url, asked);
        const passes =
          (again === "refused" ? REFUSED : PASSING).has(answer.status) || asked.passing?.(answer);
        if (!passes || again === "never" || attempt >= this.patience.attempts) return answer;
        pause = pauseOf(answer.headers.get("retry-after")) ?? pause;
      } catch (error) {
        const reachable = !(error instanceof CodedError) || error.code === "source.not-reached";
        if (!reachable || again !== "always" || attempt >= this.patience.attempts) throw error;
        // a name that does not exist, or a port where nothing listens, will not in a second either
        if ((error as CodedError).cause === "final") throw error;
      }
      await sleep(Math.min(pause, LONGEST_PAUSE_MS));
    }
  }

  /** Asks, and returns when the answer begins; repeated like `ask` until then. */
  async stream(url: string, headers: Readonly<Record<string, string>> = {}): Promise<Streamed> {
    for (let attempt = 1; ; attempt += 1) {
      let pause = this.patience.firstPauseMs * 2 ** (attempt - 1);
      try {
        const streamed = await this.begin(url, headers);
        if (!PASSING.has(streamed.status) || attempt >= this.patience.attempts) return streamed;
        await streamed.content.return();
        pause = pauseOf(streamed.headers.get("retry-after")) ?? pause;
      } catch (error) {
        const again = error instanceof CodedError && error.code === "source.not-reached";
        if (!again || attempt >= this.patience.attempts || error.cause === "final") throw error;
      }
      await sleep(Math.min(pause, LONGEST_PAUSE_MS));
    }
  }

  private async begin(url: string, headers: Readonly<Record<string, string>>): Promise<Streamed> {
    let at = url;
    for (let redirects = 0; redirects <= MOST_REDIRECTS; redirects += 1) {
      this.confirm(at);
      const silence = new Silence(this.patience.silenceMs);
      let response: Response;
      try {
        response = await fetchAllowed(at, {
          redirect: "manual",
          signal: silence.signal,
          headers: { ...headers },
        });
      } catch (error) {
        silence.end();
        throw notReached(at, error, silence, false);
      }
      const to = response.headers.get("location");
      if (![301, 302, 303, 307, 308].includes(response.status) || !to)
        return {
          status: response.status,
          headers: response.headers,
          content: contentOf(at, response, silence),
        };
      silence.end();
      await response.body?.cancel();
      if (!URL.canParse(to, at)) throw new CodedError("source.unreadable", `${url} redirects to no address`);
      at = new URL(to, at).href;
    }
    throw new CodedError("source.unreadable", `${url} redirects for ever`);
  }

  private async follow(url: string, asked: Asked): Promise<Answered> {
    let at = url;
    for (let redirects = 0; ; redirects += 1) {
      this.confirm(at);
      const answer = await this.once(at, asked);
      const to = answer.headers.get("location");
      const moved =
        [301, 302, 303, 307, 308].includes(answer.status) &&
        to &&
        asked.redirects !== false &&
        FOLLOWING.has(asked.method ?? "GET");
      if (!moved) return answer;
      if (redirects >= MOST_REDIRECTS) throw new CodedError("source.unreadable", `${url} redirects for ever`);
      if (!URL.canParse(to, at)) throw new CodedError("source.unreadable", `${url} redirects to no address`);
      at = new URL(to, at).href;
    }
  }

  private async once(url: string, { method = "GET", headers, body, content }: Asked): Promise<Answered> {
    const silence = new Silence(this.patience.silenceMs);
    let begun = false;
    try {
      const response = await fetchAllowed(url, {
        method,
        redirect: "manual",
        signal: silence.signal,
        ...(headers ? { headers } : {}),
        ...(body === undefined ? {} : { body }),
        ...(content ? { body: heardOf(content(), silence) as never, duplex: "half" } : {}),
      });
      begun = true;
      const parts: Buffer[] = [];
      for await (const part of contentOf(url, response, silence)) parts.push(part);
      return { status: response.status, headers: response.headers, body: Buffer.concat(parts), url };
    } catch (error) {
      throw notReached(url, error, silence, begun);
    } finally {
      silence.end();
    }
  }
}

/** Ends a call during which nothing arrives for too long. */
class Silence {
  private readonly control = new AbortController();
  private timer: NodeJS.Timeout | undefined;

  constructor(private readonly ms: number) {
    this.heard();
  }

  get signal(): AbortSignal {
    return this.control.signal;
  }

  heard(): void {
    clearTimeout(this.timer);
    this.timer = setTimeout(
      () => this.control.abort(new Error(`nothing came for ${this.ms / 1000} s`)),
      this.ms,
    );
  }

  end(): void {
    clearTimeout(this.timer);
  }
}

/** Content on its way out: each part that is taken is a sign of life. */
async function* heardOf(content: AsyncIterable<Uint8Array>, silence: Silence): AsyncGenerator<Uint8Array> {
  for await (const part of content) {
    silence.heard();
    yield part;
  }
  silence.heard();
}

/** What an answer contains, part by part. Whoever reads it slowly is not silence of the server. */
async function* contentOf(url: string, response: Response, silence: Silence): AsyncGenerator<Buffer, void> {
  const length = response.headers.get("content-length");
  const coded = response.headers.get("content-encoding");
  let passed = 0;
  try {
    silence.heard();
    if (response.body)
      for await (const part of response.body as unknown as AsyncIterable<Uint8Array>) {
        silence.end();
        passed += part.length;
        yield Buffer.from(part.buffer, part.byteOffset, part.byteLength);
        silence.heard();
      }
    if (length && !coded && Number(length) !== passed)
      throw new Error(`the answer broke off after ${passed} of ${length} bytes`);
  } catch (error) {
    throw notReached(url, error, silence, true);
  } finally {
    silence.end();
  }
}

function notReached(url: string, error: unknown, silence: Silence, begun: boolean): CodedError {
  if (error instanceof CodedError) return error;
  const reason = silence.signal.aborted ? (silence.signal.reason as Error) : null;
  const cause = (error as { cause?: { code?: string; message?: string } }).cause;
  const final = { ENOTFOUND: "no such name", ECONNREFUSED: "nothing listens on that port" }[
    cause?.code ?? ""
  ];
  const why = reason?.message ?? final ?? cause?.message ?? (error as Error).message;
  return new CodedError("source.not-reached", `${new URL(url).host}: ${why}`, {
    cause: final ? "final" : begun ? "begun" : error,
  });
}

/** Milliseconds of a Retry-After header: seconds, or a date. */
function pauseOf(header: string | null): number | null {
  if (!header) return null;
  if (/^\d+$/.test(header.trim())) return Number(header) * 1000;
  const at = Date.parse(header);
  return Number.isNaN(at) ? null : Math.max(0, at - Date.now());
}
