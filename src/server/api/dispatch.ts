import { z } from "zod";
import { isClientRole, mayPersonDo } from "@/core/rights/rights";
import type { Person } from "@/db/access/people";
import { hashSecret } from "@/store/seal/secrets";
import { isSecure, personOfSession, personOfToken, scopeOf, sessionCookieName } from "../access/sign-in";
import { asSession } from "../access/unlocked";
import { invalid, notFound, Problem, problemFrom, problemFromZod } from "../base/problem";
import type { Services } from "../base/services";
import { readJson } from "./body";
import { fieldWords } from "./field-words";
import { once } from "./idempotency";
import { takeRequest } from "./limits";
import { oddField } from "./odd-field";
import { type AnyOperation, type Caller, type Context, makeContext } from "./operation";
import { unknownField } from "./unknown-field";

const problemResponse = (problem: Problem): Response =>
  new Response(JSON.stringify(problem), {
    status: problem.status,
    headers: { "content-type": "application/problem+json", "cache-control": "no-store", ...problem.headers },
  });

/** Answers an error; one that nobody foresaw goes to the server's own log. */
export function answerError(error: unknown): Response {
  const problem = problemFrom(error);
  if (problem.code === "internal.error" || problem.code === "service.unavailable") console.error(error);
  return problemResponse(problem);
}

interface Compiled {
  readonly operation: AnyOperation;
  readonly pattern: RegExp;
  readonly names: readonly string[];
}

export function addressOf(request: Request): string {
  return request.headers.get("x-forwarded-for")?.split(",")[0]?.trim() || "127.0.0.1";
}

export function cookieOf(request: Request, name: string): string | null {
  for (const part of (request.headers.get("cookie") ?? "").split(";")) {
    const [key, value] = part.trim().split("=");
    if (key === name && value) return value;
  }
  return null;
}

/** The session that a request carries. */
export const sessionOf = (request: Request): string | null =>
  cookieOf(request, sessionCookieName(isSecure(request.headers.get("x-forwarded-proto"))));

/** Makes the one handler of all operations below a prefix. */
export function dispatcher(prefix: string, operations: readonly AnyOperation[], services: () => Services) {
  const compiled: Compiled[] = operations.map((operation) => {
    const names: string[] = [];
    const source = operation.path.replace(/\{(\w+)\}/g, (_, name: string) => {
      names.push(name);
      return "([^/]+)";
    });
    return { operation, pattern: new RegExp(`^${prefix}${source}$`), names };
  });

  return async (request: Request): Promise<Response> => {
    try {
      const { pathname, searchParams } = new URL(request.url);
      const here = compiled.filter(({ pattern }) => pattern.test(pathname));
      const method = request.method === "HEAD" ? "GET" : request.method;
      const found = here.find(({ operation }) => operation.method === method);
      if (!found) throw here.length ? wrongMethod(here.map((one) => one.operation.method)) : notFound();
      const { operation, pattern, names } = found;
      const context = await identify(services(), request, operation);
      await takeRequest(context.person ? context.sessionId : null, addressOf(request), operation.id);
      const values = pattern.exec(pathname)!.slice(1).map(decoded);
      const params = Object.fromEntries(names.map((name, i) => [name, values[i]]));
      // an id that cannot be one is not there
      const checkedParams = operation.params
        ? operation.params.safeParse(params)
        : { success: true as const, data: {} };
      if (!checkedParams.success) throw new Problem("not-found");
      const query = parse(operation.query, Object.fromEntries(searchParams));
      const raw = operation.body ? await readJson(request) : {};
      const body = parse(operation.body, operation.upgraded ? operation.upgraded(raw) : raw);
      const work = () =>
        inTime(
          asSession(context.person ? context.sessionId : null, async () =>
            answerOf(
              operation,
              await operation.run(context, { params: checkedParams.data, query, body } as never),
            ),
          ),
        );
      const key = request.headers.get("idempotency-key");
      const {
        status,
        body: answer,
        repeated,
      } = key && context.person && request.method === "POST"
        ? await once(context, operation, key, { params, raw }, work)
        : { status: operation.status ?? 200, body: await work(), repeated: false };
      if (answer instanceof Response) return answer;
      const { headers } = context;
      headers.set("cache-control", "no-store");
      if (repeated) headers.set("idempotency-replayed", "true");
      return answer === undefined
        ? new Response(null, { status: 204, headers })
        : Response.json(answer, { status, headers });
    } catch (error) {
      return answerError(error);
    }
  };
}

/**
 * What a handler gave, as its operation says that it answers; other fields are left out. An answer that does not fit is a
 * fault of ours: the tests stop at it, and who asked gets it as it is.
 */
export function answerOf({ id, answer }: AnyOperation, given: unknown): unknown {
  if (!answer || given instanceof Response) return given;
  const result = answer.safeParse(given);
  if (result.success) return result.data;
  const fault = new Error(`The answer of ${id} does not fit its schema: ${z.prettifyError(result.error)}`);
  if (process.env.DEEPKEEP_STRICT_ANSWERS) throw fault;
  console.error(fault);
  return given;
}

/** The longest that an operation may take, in milliseconds. What streams has begun to answer by then. */
const DEADLINE_MS = 120_000;

async function inTime<T>(work: Promise<T>): Promise<T> {
  let timer: NodeJS.Timeout | undefined;
  const late = new Promise<never>((_, reject) => {
    timer = setTimeout(() => reject(new Problem("request.too-slow")), DEADLINE_MS);
  });
  try {
    return await Promise.race([work, late]);
  } finally {
    clearTimeout(timer);
  }
}

/** The refusal of a method, with those that are possible (RFC 9110, section 15.5.6). */
export function wrongMethod(possible: readonly string[]): Problem {
  const allow = [...new Set(possible.flatMap((one) => (one === "GET" ? ["GET", "HEAD"] : [one])))].sort();
  return new Problem("request.method", `Possible here: ${allow.join(", ")}.`, [], {
    allow: allow.join(", "),
  });
}

/** A part of an address; one that is no UTF-8 names nothing that is there. */
function decoded(part: string): string {
  try {
    return decodeURIComponent(part);
  } catch {
    throw new Problem("not-found");
  }
}

/** Of an operation that takes nothing. */
const nothing = z.object({});

function parse(schema: z.ZodType = nothing, value: unknown): unknown {
  const field = oddField(value);
  if (field !== null) throw invalid(field, "Text has no NUL in it, and no half of a character.");
  const result = schema.safeParse(value, { error: fieldWords });
  if (!result.success) throw problemFromZod(result.error);
  const unknown = unknownField(value, result.data);
  if (unknown !== null)
    throw invalid(
      unknown,
      `Unknown field “${unknown}”. Nothing was changed. /api/v1/openapi.json lists the fields.`,
    );
  return result.data;
}

async function identify(services: Services, request: Request, operation: AnyOperation): Promise<Context> {
  const address = addressOf(request);
  const bearer = /^Bearer (\S+)$/.exec(request.headers.get("authorization") ?? "")?.[1];
  const session = bearer ? null : sessionOf(request);
  const held = bearer ?? session;
  const sessionId = held ? hashSecret(held).toString("hex") : null;
  // also where nobody is signed in: another site must not sign a person in, as somebody else say
  if (!bearer && !["GET", "HEAD"].includes(request.method)) refuseForeignOrigin(request);
  const token = bearer ? await personOfToken(services, bearer) : null;
  const person = token ?? (session ? await personOfSession(services, session) : null);
  if (operation.caller === "anyone")
    return makeContext(
      services,
      person,
      person ? scopeOf(person) : { role: "system" },
      request,
      address,
      session,
      sessionId,
    );
  if (!person) throw new Problem("auth.needed");
  refuseWithoutRight(person, operation.caller);
  if (token?.reach === "read" && !["GET", "HEAD"].includes(request.method))
    throw new Problem("auth.not-allowed", "This token reads, and changes nothing.");
  return makeContext(services, person, scopeOf(person), request, address, session, sessionId, token);
}

/** The one place where rights are asked for. */
function refuseWithoutRight(person: Person, caller: Caller): void {
  if (caller === "person" || caller === "anyone") return;
  // a client's people are not told what else there is
  if (!mayPersonDo(person, caller))
    throw new Problem(isClientRole(person.role) ? "not-found" : "auth.not-allowed");
  if (person.factorMissing && caller !== "account") throw new Problem("auth.factor-missing");
}

/** A page of somebody else's must not act with a person's session. */
function refuseForeignOrigin(request: Request): void {
  const origin = request.headers.get("origin");
  const host = request.headers.get("x-forwarded-host") ?? request.headers.get("host");
  // also “null”, which a page without an origin sends
  if (origin && (!URL.canParse(origin) || new URL(origin).host !== host))
    throw new Problem("auth.not-allowed", "The request comes from another website.");
  if (!origin && !["same-origin", "none", null].includes(request.headers.get("sec-fetch-site"))) {
    throw new Problem("auth.not-allowed", "The request comes from another website.");
  }
}
