import { theServices } from "@/app/console";
import { mayDo } from "@/core/rights/rights";
import { personOfToken } from "@/server/access/sign-in";
import { answerError } from "@/server/api/dispatch";
import { metricsText } from "@/server/base/metrics";
import { Problem } from "@/server/base/problem";

export const dynamic = "force-dynamic";

/** Figures for a monitoring program, which shows a token of somebody who sees all clients. */
export async function GET(request: Request): Promise<Response> {
  try {
    const services = theServices();
    const token = /^Bearer (\S+)$/.exec(request.headers.get("authorization") ?? "")?.[1];
    const person = token ? await personOfToken(services, token) : null;
    if (!person) throw new Problem("auth.needed");
    if (person.clientId || person.clientIds || !mayDo(person.role, "look"))
      throw new Problem("auth.not-allowed");
    if (person.factorMissing) throw new Problem("auth.factor-missing");
    const { text, type } = await metricsText(services);
    return new Response(text, { headers: { "content-type": type, "cache-control": "no-store" } });
  } catch (error) {
    return answerError(error);
  }
}
