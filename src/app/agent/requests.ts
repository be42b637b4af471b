import type { z } from "zod";
import {
  endReport,
  enrolRequest,
  helloRequest,
  type Job,
  logLines,
  pointReport,
  progressReport,
  workRequest,
} from "@/core/protocol/agent";
import type { Machine } from "@/db/sources/machines";
import {
  endByAgent,
  enrolMachine,
  hearMachine,
  heartbeat,
  locateForRestore,
  machineOfToken,
  nextJob,
  readPackForRestore,
  writeLog,
} from "@/runs/agent-desk";
import { waysToPut, wayToRead } from "@/runs/direct";
import { chunksKnown, takeLanded, takePack, takePoint } from "@/runs/storing";
import { type BodyLimits, JSON_LIMITS, parseJson, readBody } from "@/server/api/body";
import { addressOf, answerError, wrongMethod } from "@/server/api/dispatch";
import { oddField } from "@/server/api/odd-field";
import type { Changes } from "@/server/base/changes";
import { invalid, notFound, Problem, problemFromZod } from "@/server/base/problem";
import type { Services } from "@/server/base/services";
import { ID_BYTES } from "@/store/seal/identity";

/** The agents' routes: JSON but for chunks and packs, which are bytes. docs/api.md has the list. */

interface Desk {
  readonly services: Services;
  readonly changes: Changes;
}

interface AgentCall extends Desk {
  readonly machine: Machine;
  readonly request: Request;
  readonly url: URL;
  /** Parts of the path that the pattern caught. */
  readonly parts: readonly string[];
}

const UUID = "([0-9a-f-]{36})";
const HEX16 = "([0-9a-f]{32})";
/** How long a question for work may hang. */
const WORK_WAIT_MS = 20_000;
/** Links of machines may be thin: a body may take long, but no pause in it may. */
const AGENT_LIMITS = { most: 8 * 1024 * 1024, silenceMs: 120_000, totalMs: 1_800_000 } as const;
const MAX_IDS = 4096;
const MAX_IDS_OF_PACK = 200_000;

async function body<T>(
  request: Request,
  schema: z.ZodType<T>,
  limits: BodyLimits = AGENT_LIMITS,
): Promise<T> {
  const json = parseJson(await readBody(request, limits));
  const odd = oddField(json);
  if (odd !== null) throw invalid(odd, "Text contains a NUL or an unpaired surrogate.");
  const result = schema.safeParse(json);
  if (!result.success) throw problemFromZod(result.error);
  return result.data;
}

async function idsOf(request: Request, most = MAX_IDS): Promise<Buffer[]> {
  const bytes = await readBody(request, { ...AGENT_LIMITS, most: most * ID_BYTES });
  if (bytes.length % ID_BYTES)
    throw new Problem("request.invalid", `Ids have 32 bytes each, ${most} at most.`);
  return Array.from({ length: bytes.length / ID_BYTES }, (_, i) =>
    bytes.subarray(i * ID_BYTES, (i + 1) * ID_BYTES),
  );
}

/** How long the chunks of a pack are together; what an agent does not tell is not known. */
function contentOf(url: URL): number {
  const bytes = Number(url.searchParams.get("content") ?? "0");
  if (!Number.isSafeInteger(bytes) || bytes < 0)
    throw new Problem("request.invalid", "The length of the content is no number of bytes.");
  return bytes;
}

/** A job as agents read it whose What did not tell kinds of source apart. */
const jobOfEarlier = (job: Job) =>
  job.kind === "backup" ? { ...job, clauses: { ...job.clauses, what: job.clauses.what.files } } : job;

const nothing = () => new Response(null, { status: 204 });

type Handler = (call: AgentCall) => Promise<Response>;
const routes: readonly (readonly [method: string, pattern: RegExp, handler: Handler])[] = [
  [
    "POST",
    /^hello$/,
    async ({ services, machine, request }) => {
      const { system, started } = await body(request, helloRequest);
      await hearMachine(services, machine, system, started);
      return nothing();
    },
  ],
  [
    "POST",
    /^work$/,
    async ({ services, changes, machine, request }) => {
      const { kinds, sources } = await body(request, workRequest);
      const next = async () => {
        const job = await nextJob(services, machine, kinds, sources ?? ["files"]);
        return job && sources === null ? jobOfEarlier(job) : job;
      };
      const wait = changes.wait(
        (notice) => notice.kind === "run" && notice.machineId === machine.id,
        WORK_WAIT_MS,
        request.signal,
      );
      const job = (await next()) ?? (await wait.promise.then(() => (request.signal.aborted ? null : next())));
      wait.cancel();
      return job ? Response.json(job) : nothing();
    },
  ],
  [
    "POST",
    new RegExp(`^runs/${UUID}/heartbeat$`),
    async ({ services, machine, request, parts }) =>
      Response.json(await heartbeat(services, machine, parts[0]!, await body(request, progressReport))),
  ],
  [
    "POST",
    new RegExp(`^runs/${UUID}/log$`),
    async ({ services, machine, request, parts }) => {
      await writeLog(services, machine, parts[0]!, (await body(request, logLines)).lines);
      return nothing();
    },
  ],
  [
    "POST",
    new RegExp(`^runs/${UUID}/known$`),
    async ({ services, machine, request, parts }) => {
      const known = await chunksKnown(services, machine, parts[0]!, await idsOf(request));
      return new Response(Uint8Array.from(known, Number));
    },
  ],
  [
    "PUT",
    new RegExp(`^runs/${UUID}/packs/${HEX16}$`),
    async ({ services, machine, request, parts, url }) => {
      const count = Number(url.searchParams.get("chunks"));
      if (!Number.isInteger(count) || count < 1 || count > MAX_IDS_OF_PACK || !request.body)
        throw new Problem("request.invalid", "The number of chunks is missing.");
      const { ids, rest } = await splitHead(request.body, count * ID_BYTES);
      const chunkIds = Array.from({ length: count }, (_, i) =>
        ids.subarray(i * ID_BYTES, (i + 1) * ID_BYTES),
      );
      const packId = Buffer.from(parts[1]!, "hex");
      const holds = { ids: chunkIds, contentBytes: contentOf(url) };
      const taken = await takePack(services, machine, parts[0]!, packId, holds, rest);
      return taken ? nothing() : new Response(null, { status: 503 });
    },
  ],
  [
    "POST",
    new RegExp(`^runs/${UUID}/packs/${HEX16}/ways$`),
    async ({ services, machine, parts }) =>
      Response.json({ ways: await waysToPut(services, machine, parts[0]!, Buffer.from(parts[1]!, "hex")) }),
  ],
  [
    "POST",
    new RegExp(`^runs/${UUID}/packs/${HEX16}/landed$`),
    async ({ services, machine, request, parts, url }) => {
      const depotIds = (url.searchParams.get("depots") ?? "").split(",");
      const packId = Buffer.from(parts[1]!, "hex");
      const ids = await idsOf(request, MAX_IDS_OF_PACK);
      if (ids.length === 0) throw new Problem("request.invalid", "The chunks of the pack are missing.");
      return Response.json({
        complete: await takeLanded(
          services,
          machine,
          parts[0]!,
          packId,
          { ids, contentBytes: contentOf(url) },
          depotIds,
        ),
      });
    },
  ],
  [
    "POST",
    new RegExp(`^runs/${UUID}/depots/${UUID}/packs/${HEX16}/way$`),
    async ({ services, machine, parts }) =>
      Response.json(await wayToRead(services, machine, parts[0]!, parts[1]!, parts[2]!)),
  ],
  [
    "POST",
    new RegExp(`^runs/${UUID}/point$`),
    async ({ services, machine, request, parts }) => {
      await takePoint(services, machine, parts[0]!, await body(request, pointReport));
      return nothing();
    },
  ],
  [
    "POST",
    new RegExp(`^runs/${UUID}/end$`),
    async ({ services, machine, request, parts }) => {
      await endByAgent(services, machine, parts[0]!, await body(request, endReport));
      return nothing();
    },
  ],
  [
    "POST",
    new RegExp(`^runs/${UUID}/depots/${UUID}/locate$`),
    async ({ services, machine, request, parts }) =>
      Response.json(await locateForRestore(services, machine, parts[0]!, parts[1]!, await idsOf(request))),
  ],
  [
    "GET",
    new RegExp(`^runs/${UUID}/depots/${UUID}/packs/${HEX16}$`),
    async ({ services, machine, request, parts }) => {
      const range = /^bytes=(\d+)-(\d+)$/.exec(request.headers.get("range") ?? "bytes=0--1");
      const offset = Number(range?.[1] ?? 0);
      const length = range ? Number(range[2]) - offset + 1 : 0;
      if (length > 64 * 1024 * 1024) throw new Problem("request.invalid", "At most 64 MiB at a time.");
      const { size, bytes } = await readPackForRestore(
        services,
        machine,
        parts[0]!,
        parts[1]!,
        parts[2]!,
        offset,
        length,
      );
      return new Response(new Uint8Array(bytes), {
        status: 200,
        headers: { "x-size": String(size), "content-type": "application/octet-stream" },
      });
    },
  ],
];

/** Takes the first bytes of a stream; the rest of it goes on as it comes. */
async function splitHead(
  stream: ReadableStream<Uint8Array>,
  length: number,
): Promise<{ ids: Buffer; rest: AsyncIterable<Uint8Array> }> {
  const reader = stream.getReader();
  const head = Buffer.alloc(length);
  let filled = 0;
  let left: Uint8Array = new Uint8Array(0);
  while (filled < length) {
    const { done, value } = await reader.read();
    if (done) throw new Problem("request.invalid", "The pack ends before its chunk ids do.");
    const taken = Math.min(value.length, length - filled);
    head.set(value.subarray(0, taken), filled);
    filled += taken;
    left = value.subarray(taken);
  }
  const rest = (async function* () {
    if (left.length) yield left;
    for (;;) {
      const { done, value } = await reader.read();
      if (done) return;
      yield value;
    }
  })();
  return { ids: head, rest };
}

export async function answerAgent(desk: Desk, request: Request): Promise<Response> {
  try {
    const url = new URL(request.url);
    const path = url.pathname.replace(/^\/agent\/v1\//, "");
    const address = addressOf(request);
    if (path === "enrol") {
      if (request.method !== "POST") throw wrongMethod(["POST"]);
      return Response.json(await enrol(desk, request, address));
    }
    const token = /^Bearer (\S+)$/.exec(request.headers.get("authorization") ?? "")?.[1];
    const machine = token ? await machineOfToken(desk.services, token) : null;
    if (!machine) throw new Problem("auth.needed", "This machine is not enrolled, or it was removed.");
    for (const [method, pattern, handler] of routes) {
      const parts = method === request.method ? pattern.exec(path) : null;
      if (parts) return await handler({ ...desk, machine, request, url, parts: parts.slice(1) });
    }
    const possible = routes.filter(([, pattern]) => pattern.test(path)).map(([method]) => method);
    throw possible.length ? wrongMethod(possible) : notFound();
  } catch (error) {
    return answerError(error);
  }
}

async function enrol(desk: Desk, request: Request, address: string) {
  const { attempts } = desk.services;
  const wanted = await body(request, enrolRequest, JSON_LIMITS);
  await attempts.take("enrolment", address);
  try {
    const enrolled = await enrolMachine(desk.services, wanted, address);
    await attempts.giveBack("enrolment", address);
    return enrolled;
  } catch (error) {
    // the code was right
    if (error instanceof Problem && error.code !== "not-found") await attempts.giveBack("enrolment", address);
    throw error;
  }
}
