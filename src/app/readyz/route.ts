import { theServices } from "@/app/console";
import { answers } from "@/db/base/scope";

export const dynamic = "force-dynamic";

/** The process can do its work: the database answers. */
export async function GET(): Promise<Response> {
  try {
    await theServices().db.withScope({ role: "system" }, answers);
    return Response.json({ ok: true });
  } catch {
    return Response.json({ ok: false, waitsFor: "database" }, { status: 503 });
  }
}
