import { z } from "zod";

export const uuid = z.uuid();
export const clientParam = z.object({ clientId: uuid });
export const sourceParam = z.object({ sourceId: uuid });
export const policyParam = z.object({ policyId: uuid });
export const depotParam = z.object({ depotId: uuid });
export const runParam = z.object({ runId: uuid });
export const pointParam = z.object({ pointId: z.string().regex(/^[0-9a-f]{32}$/) });
export const scopeQuery = z.object({
  client: uuid.optional(),
  site: uuid.optional(),
  source: uuid.optional(),
});

export const filterOf = (query: z.infer<typeof scopeQuery>) => ({
  clientId: query.client,
  siteId: query.site,
  sourceId: query.source,
});
export const name = (what: string, most = 100) =>
  z.string().trim().min(1, `Give ${what}.`).max(most, `${most} characters at most.`);

/** Why something out of the ordinary is done. */
export const reason = z
  .string()
  .trim()
  .min(3, "Say why: it stands in the trail.")
  .max(500, "500 characters at most.");

export const email = z.email("Give an e-mail address.").max(200);
export const password = z.string().min(12, "At least 12 characters; a few words in a row are fine.").max(200);
export const personParam = z.object({ personId: uuid });
