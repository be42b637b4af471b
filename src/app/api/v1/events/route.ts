import { theConsole } from "@/app/console";
import { depotsOfRuns } from "@/db/run-depots";
import { openRuns } from "@/db/runs";
import type { Tx } from "@/db/scope";
import { answerError, cookieOf } from "@/server/api/dispatch";
import { Problem } from "@/server/problem";
import { personOfSession, SESSION_COOKIE, scopeOf } from "@/server/sign-in";

export const dynamic = "force-dynamic";

const TAPE_PAUSE_MS = 700;
const KEEP_ALIVE_MS = 20_000;

/** The runs that go on, each with what it puts where. */
async function tapeOf(tx: Tx) {
  const runs = await openRuns(tx, {});
  const depots = await depotsOfRuns(
    tx,
    runs.map((run) => run.id),
  );
  return runs.map(({ id, kind, state, sourceName, machineName, clientSlug, progress, startedAt }) => ({
    id,
    kind,
    state,
    sourceName,
    machineName,
    clientSlug,
    progress,
    startedAt,
    depots: depots.filter((depot) => depot.runId === id),
  }));
}

/**
 * Live events (server-sent): `tape` with the runs that go on, and `changed` when something a view shows is not as it was.
 * A portal user hears of their own client only.
 */
export async function GET(request: Request): Promise<Response> {
  try {
    const { services, changes } = theConsole();
    const token = cookieOf(request, SESSION_COOKIE);
    const person = token ? await personOfSession(services, token) : null;
    if (!person) throw new Problem("auth.needed");
    const scope = scopeOf(person);
    const encoder = new TextEncoder();
    let stop = () => {};
    const stream = new ReadableStream<Uint8Array>({
      start(controller) {
        const send = (event: string, data: unknown) =>
          controller.enqueue(encoder.encode(`event: ${event}\ndata: ${JSON.stringify(data)}\n\n`));
        let pending: NodeJS.Timeout | null = null;
        let changed = false;
        const sendTape = async () => {
          pending = null;
          const tell = changed;
          changed = false;
          try {
            send("tape", person.role === "portal" ? [] : await services.db.withScope(scope, tapeOf));
            if (tell) send("changed", {});
          } catch {
            // the database is away for a moment, or the reader is gone: the next change tells again
          }
        };
        const unhear = changes.hear((notice) => {
          if (person.clientId && notice.clientId !== person.clientId) return;
          if (notice.kind !== "progress") changed = true;
          pending ??= setTimeout(sendTape, TAPE_PAUSE_MS);
        });
        const alive = setInterval(() => controller.enqueue(encoder.encode(": alive\n\n")), KEEP_ALIVE_MS);
        stop = () => {
          unhear();
          clearInterval(alive);
          if (pending) clearTimeout(pending);
        };
        request.signal.addEventListener("abort", () => {
          stop();
          try {
            controller.close();
          } catch {
            // closed already
          }
        });
        void sendTape();
      },
      cancel: () => stop(),
    });
    return new Response(stream, {
      headers: {
        "content-type": "text/event-stream",
        "cache-control": "no-store",
        "x-accel-buffering": "no",
      },
    });
  } catch (error) {
    return answerError(error);
  }
}
