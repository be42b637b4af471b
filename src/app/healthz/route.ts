export const dynamic = "force-dynamic";

/** The process answers. */
export const GET = (): Response => Response.json({ ok: true });
