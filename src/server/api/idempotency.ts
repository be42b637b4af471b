import { createHash } from "node:crypto";
import { CodedError } from "@/core/codes";
import type { PersonId } from "@/core/ids";
import { withIdempotency } from "@/db/base/committed";
import { giveKeyBack, keepAnswer, takeKey } from "@/db/base/idempotency";
import { Problem } from "../base/problem";
import type { AnyOperation, Context } from "./operation";

export interface Answer {
  readonly status: number;
  readonly body: unknown;
  /** The answer of an earlier request with the same key. */
  readonly repeated: boolean;
}

/** How long an answer is kept for repetitions. */
export const KEPT_HOURS = 24;
/** After so long without an answer the process that worked on the request is gone: no operation takes longer. */
const GONE_MS = 180_000;

/** What the seal of a kept answer says that it is. */
export const answerContext = (personId: PersonId, key: string): string => `answer ${personId} ${key}`;

/** An answer without what is shown once: a repetition does not show it again. */
export function withoutSecrets(answer: unknown, shownOnce: readonly string[]): unknown {
  const copy: unknown = answer instanceof Response ? {} : JSON.parse(JSON.stringify(answer ?? null));
  for (const path of shownOnce) blank(copy, path.split("."));
  return copy;
}
function blank(value: unknown, [name, ...rest]: readonly string[]): void {
  if (Array.isArray(value)) {
    for (const one of value) blank(one, [name!, ...rest]);
    return;
  }
  if (typeof value !== "object" || value === null || !(name! in value)) return;
  const record = value as Record<string, unknown>;
  if (rest.length === 0) record[name!] = null;
  else blank(record[name!], rest);
}

/**
 * Does a creating request once for each key; a repetition gets the first answer again, for a day, without what is shown
 * once. A request whose process was killed can be repeated when it had changed nothing; when it had, the repetition is
 * told so and changes nothing.
 */
export async function once(
  context: Context,
  operation: AnyOperation,
  key: string,
  request: unknown,
  work: () => Promise<unknown>,
): Promise<Answer> {
  const { services, person, who } = context;
  const personId = person!.id;
  if (key.length > 200)
    throw new Problem("request.invalid", "An Idempotency-Key has 200 characters at most.");
  const hash = createHash("sha256")
    .update(JSON.stringify([operation.id, request]))
    .digest();
  const system = { role: "system" } as const;
  const kept = await services.db.withScope(system, (tx) => takeKey(tx, personId, key, hash, who.at, GONE_MS));
  if (kept) {
    if (!kept.hash.equals(hash))
      throw new Problem("request.conflict", "This Idempotency-Key was used for another request.");
    if (kept.status !== null && kept.sealed)
      return {
        status: kept.status,
        body: JSON.parse(services.secrets.unseal(kept.sealed, answerContext(personId, key)).toString("utf8")),
        repeated: true,
      };
    throw new Problem(
      "request.conflict",
      kept.committed
        ? "The first request with this Idempotency-Key was carried out, but its answer was lost. Read the current state; nothing was done again."
        : "The first request with this Idempotency-Key is still running. Try again in a few minutes.",
    );
  }
  let body: unknown;
  try {
    body = await withIdempotency({ personId, key }, work);
  } catch (error) {
    // what was committed is not done again, whatever went wrong after it
    await services.db.withScope(system, (tx) => giveKeyBack(tx, personId, key)).catch(() => {});
    throw error;
  }
  const status = operation.status ?? 200;
  const text = JSON.stringify(withoutSecrets(body, operation.shownOnce ?? []));
  const sealed = services.secrets.seal(Buffer.from(text, "utf8"), answerContext(personId, key));
  await services.db
    .withScope(system, (tx) => keepAnswer(tx, personId, key, status, sealed))
    .catch((error) => {
      // the work is done, and noted as committed: only its answer is not kept
      if (error instanceof CodedError) return;
      console.error(error);
    });
  return { status, body, repeated: false };
}
