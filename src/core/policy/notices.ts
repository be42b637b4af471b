import { z } from "zod";
import { clockTime } from "./times";

/** The clause Notices: who hears of what, and how. */

export const NOTICE_OUTCOMES = ["clean", "caution", "failed", "missed"] as const;
export type NoticeOutcome = (typeof NOTICE_OUTCOMES)[number];

export const noticesClause = z
  .object({
    /** Of which outcomes. */
    on: z.array(z.enum(NOTICE_OUTCOMES)).default([]),
    mail: z.array(z.email("Enter an e-mail address.")).max(20, "At most twenty addresses.").default([]),
    /** Webhooks that the provider has set up, by id. */
    webhooks: z.array(z.uuid("Choose a webhook.")).max(10, "At most ten webhooks.").default([]),
    /** At this time one mail tells all since the day before, instead of one for each cause. */
    digestAt: clockTime.nullable().default(null),
    /** Between these times nothing is sent; what came up is told when they are over. */
    quiet: z
      .object({ from: clockTime, to: clockTime })
      .refine((quiet) => quiet.from !== quiet.to, {
        path: ["to"],
        message: "Quiet hours must not end at their start. Enter another end.",
      })
      .nullable()
      .default(null),
  })
  .refine((notices) => notices.on.length > 0 || notices.mail.length + notices.webhooks.length === 0, {
    path: ["on"],
    message: "Choose of which outcomes they hear.",
  });
export type Notices = z.infer<typeof noticesClause>;

export const NO_NOTICES: Notices = { on: [], mail: [], webhooks: [], digestAt: null, quiet: null };

/** The clause as a sentence. */
export function noticesSentence(notices: Notices): string {
  const to = [
    ...notices.mail,
    notices.webhooks.length === 1
      ? "a webhook"
      : notices.webhooks.length
        ? `${notices.webhooks.length} webhooks`
        : "",
  ].filter(Boolean);
  if (to.length === 0 || notices.on.length === 0) return "Shown in the console only";
  const how = notices.digestAt ? `in one message at ${notices.digestAt}` : "once for each cause";
  const quiet = notices.quiet ? `; quiet from ${notices.quiet.from} to ${notices.quiet.to}` : "";
  return `${notices.on.join(", ")} to ${to.join(", ")}, ${how}${quiet}`;
}
