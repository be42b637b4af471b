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

/**
 * HTTP to a mail server: whole answers, silence noticed, refusals that pass repeated with growing pauses. Credentials go to
 * the server's own host, and to hosts that a technician confirmed, never where a redirect or the server's words lead.
 */
export class MailTransport {
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

  private async once(url: string, { method = "GET", headers, body }: Asked): Promise<Answered> {
    const control = new AbortController();
    let timer: NodeJS.Timeout | undefined;
    const hear = () => {
      clearTimeout(timer);
      timer = setTimeout(
        () => control.abort(new Error(`nothing came for ${this.patience.silenceMs / 1000} s`)),
        this.patience.silenceMs,
      );
    };
    hear();
    let begun = false;
    try {
      const response = await fetchAllowed(url, {
        method,
        redirect: "manual",
        signal: control.signal,
        ...(headers ? { headers } : {}),
        ...(body === undefined ? {} : { body }),
      });
      begun = true;
      const parts: Uint8Array[] = [];
      if (response.body)
        for await (const part of response.body as unknown as AsyncIterable<Uint8Array>) {
          hear();
          parts.push(part);
        }
      const whole = Buffer.concat(parts);
      const length = response.headers.get("content-length");
      const coded = response.headers.get("content-encoding");
      if (length && !coded && Number(length) !== whole.length)
        throw new Error(`the answer broke off after ${whole.length} of ${length} bytes`);
      return { status: response.status, headers: response.headers, body: whole, url };
    } catch (error) {
      if (error instanceof CodedError) throw error;
      const reason = control.signal.aborted ? (control.signal.reason as Error) : null;
      const cause = (error as { cause?: { code?: string; message?: string } }).cause;
      const final = { ENOTFOUND: "no such name", ECONNREFUSED: "nothing listens on that port" }[
        cause?.code ?? ""
      ];
      const why = reason?.message ?? final ?? cause?.message ?? (error as Error).message;
      throw new CodedError("source.not-reached", `${new URL(url).host}: ${why}`, {
        cause: final ? "final" : begun ? "begun" : error,
      });
    } finally {
      clearTimeout(timer);
    }
  }
}

/** Milliseconds of a Retry-After header: seconds, or a date. */
function pauseOf(header: string | null): number | null {
  if (!header) return null;
  if (/^\d+$/.test(header.trim())) return Number(header) * 1000;
  const at = Date.parse(header);
  return Number.isNaN(at) ? null : Math.max(0, at - Date.now());
}
