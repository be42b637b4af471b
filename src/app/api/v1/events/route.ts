import { theConsole } from "@/app/console";
import type { ClientId } from "@/core/ids";
import type { Person } from "@/db/access/people";
import { personBySession } from "@/db/access/sessions";
import type { Tx } from "@/db/base/scope";
import { depotsOfRuns } from "@/db/runs/run-depots";
import { openRuns } from "@/db/runs/runs";
import { personOfSession, scopeOf } from "@/server/access/sign-in";
import { answerError, sessionOf } from "@/server/api/dispatch";
import { Problem } from "@/server/base/problem";
import { hashSecret } from "@/store/seal/secrets";

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

/** Whether a change is of a client that this person may see. */
const theirs = (person: Person, clientId: ClientId | null): boolean =>
  person.clientId
    ? clientId === person.clientId
    : !person.clientIds || clientId === null || person.clientIds.includes(clientId);

/**
 * Live events (server-sent): `tape` with the runs that go on, and `changed` when something a view shows is not as it was.
 * Everybody hears of the clients that are theirs only.
 */
export async function GET(request: Request): Promise<Response> {
  try {
    const { services, changes } = theConsole();
    const token = sessionOf(request);
    const found = token ? await personOfSession(services, token) : null;
    if (!found) throw new Problem("auth.needed");
    if (found.factorMissing) throw new Problem("auth.factor-missing");
    let person: Person = found;
    const encoder = new TextEncoder();
    let stop = () => {};
    const stream = new ReadableStream<Uint8Array>({
      start(controller) {
        const send = (event: string, data: unknown) =>
          controller.enqueue(encoder.encode(`event: ${event}\ndata: ${JSON.stringify(data)}\n\n`));
        let pending: NodeJS.Timeout | null = null;
        /** Clients of which something changed since the last message; null for what belongs to none. */
        let heard = new Set<ClientId | null>();
        let changed = new Set<ClientId | null>();
        /** Reads the person again; listening is no sign of life. Closes the stream for who has no session any more. */
        const stillThere = async (): Promise<boolean> => {
          const still = await services.db.withScope({ role: "system" }, (tx) =>
            personBySession(tx, hashSecret(token!), services.now()),
          );
          if (still && !still.factorMissing) {
            person = still;
            return true;
          }
          stop();
          controller.close();
          return false;
        };
        const sendTape = async () => {
          pending = null;
          const [of, changedOf] = [heard, changed];
          heard = new Set();
          changed = new Set();
          try {
            // current rights: the session may have ended, or its person may be limited to other clients
            if (!(await stillThere())) return;
            const still = (clients: ReadonlySet<ClientId | null>) =>
              [...clients].some((id) => theirs(person, id));
            if (of.size > 0 && !still(of)) return;
            send("tape", person.clientId ? [] : await services.db.withScope(scopeOf(person), tapeOf));
            if (still(changedOf)) send("changed", {});
          } catch {
            // the database is away for a moment, or the reader is gone: the next change tells again
          }
        };
        const unhear = changes.hear((notice) => {
          if (!theirs(person, notice.clientId)) return;
          heard.add(notice.clientId);
          if (notice.kind !== "progress") changed.add(notice.clientId);
          pending ??= setTimeout(sendTape, TAPE_PAUSE_MS);
        });
        const alive = setInterval(async () => {
          if (await stillThere().catch(() => true)) controller.enqueue(encoder.encode(": alive\n\n"));
        }, KEEP_ALIVE_MS);
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
