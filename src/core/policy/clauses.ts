import { z } from "zod";
import { upgradedWhat, whatClause, whatSentence } from "@/kinds/what";
import type { KeyState } from "../keysheet/wrapping";
import { type Retention, retentionSentence } from "../retention/decide";
import { type Conduct, conductClause, conductSentence, PLAIN_CONDUCT } from "./conduct";
import { NO_NOTICES, type Notices, noticesClause, noticesSentence } from "./notices";
import { upgradedWhen, whenClause, whenSentence } from "./when";
import { whereClause } from "./where";

/** The clauses of a policy, checked at the edge. Messages are shown beside the field they belong to. */

const keepCount = z
  .number()
  .int("A whole number.")
  .min(1, "Keep at least one.")
  .max(4000, "At most 4,000 recovery points.");
const keepDays = z
  .number()
  .int("Whole days.")
  .min(1, "At least one day.")
  .max(36500, "At most a hundred years.");
const tier = z
  .number()
  .int("A whole number.")
  .min(0, "None, or some.")
  .max(4000, "At most 4,000.")
  .default(0);

const deleted = z.enum(["with-points", "last-copy"]).optional();

export const howLongClause: z.ZodType<Retention, unknown> = z.discriminatedUnion("kind", [
  z.object({ kind: z.literal("last"), count: keepCount, deleted }),
  z.object({ kind: z.literal("days"), days: keepDays, deleted }),
  z.object({ kind: z.literal("first-of"), count: keepCount, days: keepDays, deleted }),
  z.object({
    kind: z.literal("tiers"),
    deleted,
    tiers: z
      .object({ daily: tier, weekly: tier, monthly: tier, quarterly: tier, yearly: tier })
      .refine(
        (tiers) => Object.values(tiers).some((count) => count > 0),
        "Keep at least one day, week, month, quarter or year.",
      )
      .refine(
        (tiers) => Object.values(tiers).reduce((sum, count) => sum + count, 0) <= 4000,
        "At most 4,000 recovery points together.",
      ),
  }),
  z.object({ kind: z.literal("for-ever"), deleted }),
]);

export const clausesSchema = z.object({
  what: whatClause,
  when: whenClause,
  howLong: howLongClause,
  where: whereClause,
  conduct: conductClause,
  notices: noticesClause,
});

export type Clauses = z.infer<typeof clausesSchema>;

/** What holds where no level gives anything else; the other clauses have to be given. */
export const PLAIN_CLAUSES: Pick<Clauses, "conduct" | "notices"> = {
  conduct: PLAIN_CONDUCT,
  notices: NO_NOTICES,
};

/** Clauses as they were stored, also by earlier versions; for sources of which kinds, where known. Throws what Zod throws. */
export const readClauses = (value: unknown, kinds?: readonly string[]): Clauses => {
  const written = value as Partial<Clauses>;
  return clausesSchema.parse({
    ...PLAIN_CLAUSES,
    ...written,
    what: upgradedWhat(written.what, kinds),
    when: upgradedWhen(written.when),
  });
};

/** One clause as a sentence that says what it does; Where needs the names of depots: `whereSentence`. */
export function clauseSentence(clause: Exclude<keyof Clauses, "where">, clauses: Partial<Clauses>): string {
  switch (clause) {
    case "what":
      return clauses.what ? whatSentence(clauses.what) : NOT_GIVEN;
    case "when":
      return clauses.when ? whenSentence(clauses.when) : NOT_GIVEN;
    case "howLong":
      return clauses.howLong ? retentionSentence(clauses.howLong) : NOT_GIVEN;
    case "conduct":
      return conductSentence(clauses.conduct ?? PLAIN_CONDUCT);
    case "notices":
      return noticesSentence(clauses.notices ?? NO_NOTICES);
  }
}
const NOT_GIVEN = "Not set at any level";

export type { Conduct, Notices };

/** How a client's content is sealed, as a sentence. */
export const encryptionSentence = (key: KeyState): string =>
  ({
    escrow: "AES-256-GCM with the client's key; its sheet is confirmed, the provider holds it in escrow",
    passphrase:
      "AES-256-GCM with the client's key; its sheet is confirmed, and it opens with the client's passphrase alone",
    destroyed: "The client's key was destroyed; nothing runs, and nothing that was kept can be read",
    "not confirmed": "AES-256-GCM with the client's key; its sheet is not confirmed yet, so nothing runs",
    none: "The client has no key yet, so nothing runs",
  })[key];
