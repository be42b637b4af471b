import { z } from "zod";
import { KINDS, SOURCE_KINDS, type SourceKind } from "@/kinds";
import { upgradedWhat } from "@/kinds/what";
import type { SiteId } from "../ids";
import { namePattern, patternProblem } from "../selection/pattern";
import { type Clauses, clausesSchema, PLAIN_CLAUSES } from "./clauses";
import { upgradedWhen } from "./when";

/** From the widest to the nearest. A group is what people call a policy: sources that are looked after alike. */
export const LEVELS = ["provider", "client", "site", "group", "source"] as const;
export type Level = (typeof LEVELS)[number];

export const CLAUSE_NAMES = ["what", "when", "howLong", "where", "conduct", "notices"] as const;
/** What people call them. */
export const CLAUSE_TITLES: Readonly<Record<(typeof CLAUSE_NAMES)[number], string>> = {
  what: "What",
  when: "When",
  howLong: "How long",
  where: "Where",
  conduct: "Conduct",
  notices: "Notices",
};
export type ClauseName = (typeof CLAUSE_NAMES)[number];

/** The rules of one level: some clauses, and which of them nobody below changes. */
export interface Layer {
  readonly id: string;
  readonly level: Level;
  readonly name: string;
  readonly clauses: Partial<Clauses>;
  readonly pins: readonly ClauseName[];
}

/** Where the value of a clause comes from. */
export interface Origin {
  readonly layerId: string;
  readonly level: Level;
  readonly name: string;
  readonly pinned: boolean;
}

/** What is in force for one source. */
export interface InForce {
  readonly clauses: Partial<Clauses>;
  readonly origins: Partial<Record<ClauseName, Origin>>;
  /** Clauses that no level gives: with one of them nothing runs. */
  readonly missing: readonly ClauseName[];
}

/**
 * The value of each clause: the nearest level that gives it, unless a wider one pinned its own. Layers in any order. For
 * sources of a kind, What counts at those levels only that name the kind.
 */
export function inForce(layers: readonly Layer[], kind?: SourceKind): InForce {
  const clauses: Partial<Record<ClauseName, unknown>> = {};
  const origins: Partial<Record<ClauseName, Origin>> = {};
  const ordered = LEVELS.flatMap((level) => layers.filter((layer) => layer.level === level));
  for (const name of CLAUSE_NAMES) {
    for (const layer of ordered) {
      const value = layer.clauses[name];
      if (value === undefined) continue;
      if (name === "what" && kind && !layer.clauses.what?.[kind]) continue;
      const pinned = layer.pins.includes(name);
      clauses[name] = value;
      origins[name] = { layerId: layer.id, level: layer.level, name: layer.name, pinned };
      if (pinned) break;
    }
  }
  return {
    clauses: clauses as Partial<Clauses>,
    origins,
    missing: CLAUSE_NAMES.filter((name) => clauses[name] === undefined && !(name in PLAIN_CLAUSES)),
  };
}

/** All clauses, where every one is given; null otherwise. */
export const complete = ({ clauses, missing }: InForce): Clauses | null =>
  missing.length === 0 ? ({ ...PLAIN_CLAUSES, ...clauses } as Clauses) : null;

/** Whether two values say the same, in whatever order their parts were written down. */
export const sameValue = (a: unknown, b: unknown): boolean => told(a) === told(b);
const told = (value: unknown): string | undefined =>
  JSON.stringify(value, (_, part: unknown) =>
    part && typeof part === "object" && !Array.isArray(part)
      ? Object.fromEntries(Object.entries(part).sort(([x], [y]) => (x < y ? -1 : 1)))
      : part,
  );

/** Which clauses of a source would change, with old and new value; undefined where there was or will be none. */
export interface ClauseChange {
  readonly clause: ClauseName;
  readonly before: Clauses[ClauseName] | undefined;
  readonly after: Clauses[ClauseName] | undefined;
}
export const changesBetween = (before: InForce, after: InForce): ClauseChange[] =>
  CLAUSE_NAMES.filter((name) => !sameValue(before.clauses[name], after.clauses[name])).map((clause) => ({
    clause,
    before: before.clauses[clause],
    after: after.clauses[clause],
  }));

const words = (what: string) => z.string().trim().min(1, `Enter ${what}, or leave it out.`).max(200);
const patternText = (schema: z.ZodString) =>
  schema.superRefine((text, context) => {
    const problem = patternProblem(text);
    if (problem) context.addIssue({ code: "custom", message: problem });
  });
/** Which sources a group takes by themselves: all that is given must hold. */
export const groupRule = z
  .object({
    kind: z.enum(SOURCE_KINDS).optional(),
    /** A pattern for the name, such as `*-lt-*`. */
    name: patternText(words("a pattern for the name")).optional(),
    /** Words of the machine's system, such as `Debian`. */
    system: words("words of the system").optional(),
    tag: words("a tag").optional(),
    siteId: z.uuid().optional(),
  })
  .refine((rule) => Object.values(rule).some((value) => value !== undefined), {
    message: "A rule without conditions would match every source. Enter at least one condition.",
  });
export type GroupRule = z.infer<typeof groupRule>;

/** What a rule looks at. */
export interface SourceTraits {
  readonly kind: SourceKind;
  readonly name: string;
  readonly siteId: SiteId;
  readonly system: string | null;
  readonly tags: readonly string[];
}

export function ruleTakes(rule: GroupRule, source: SourceTraits): boolean {
  if (rule.kind && rule.kind !== source.kind) return false;
  if (rule.siteId && rule.siteId !== source.siteId) return false;
  if (rule.name && !namePattern(rule.name, { ignoreCase: true })(source.name)) return false;
  if (rule.system && !(source.system ?? "").toLowerCase().includes(rule.system.toLowerCase())) return false;
  if (rule.tag && !source.tags.some((tag) => tag.toLowerCase() === rule.tag!.toLowerCase())) return false;
  return true;
}

/** A rule as a sentence. */
export function ruleSentence(rule: GroupRule | null, siteName: (id: string) => string): string {
  if (!rule) return "Matches no sources automatically";
  const parts = [
    rule.kind && KINDS[rule.kind].sources,
    rule.name && `named ${rule.name}`,
    rule.system && `on ${rule.system}`,
    rule.tag && `tagged “${rule.tag}”`,
    rule.siteId && `at ${siteName(rule.siteId)}`,
  ].filter(Boolean);
  return `Matches new sources that are ${parts.join(", ")}`;
}

export const POLICY_FORMAT = "deep-keep-policy";
export const POLICY_VERSION = 3;
/** A policy as it is carried from one console to another. Depots are named, for their ids differ. */
export const policyFile = z.object({
  // by which an editor knows what may stand in it
  $schema: z.string().max(2000).optional(),
  format: z.literal(POLICY_FORMAT, { error: "The file is not a Deep Keep policy." }),
  version: z
    .number()
    .int()
    .min(1)
    .max(
      POLICY_VERSION,
      `This policy was written by a newer version; this one reads up to ${POLICY_VERSION}.`,
    ),
  name: z.string().trim().min(1).max(100),
  clauses: z.object({
    what: clausesSchema.shape.what.optional(),
    when: clausesSchema.shape.when.optional(),
    howLong: clausesSchema.shape.howLong.optional(),
    conduct: clausesSchema.shape.conduct.optional(),
    notices: clausesSchema.shape.notices.optional(),
    where: z
      .object({
        depot: z.string().min(1),
        beside: z.array(z.string()).default([]),
        carryTo: z.array(z.string()).default([]),
        atOnce: z.number().int().min(1).max(5).default(2),
        whenAway: z.enum(["wait", "others"]).default("wait"),
      })
      .optional(),
  }),
  rule: groupRule.nullable().default(null),
});
export type PolicyFile = z.infer<typeof policyFile>;

/** A file of an earlier version as this one writes it; what it says stays the same. */
export function upgradedFile(value: unknown): unknown {
  const file = value as { version?: unknown; clauses?: { what?: unknown; when?: unknown } } | null;
  if (!file?.clauses || (file.version !== 1 && file.version !== 2)) return value;
  const { what, when } = file.clauses;
  return {
    ...file,
    version: POLICY_VERSION,
    clauses: {
      ...file.clauses,
      ...(what ? { what: upgradedWhat(what) } : {}),
      ...(when ? { when: upgradedWhen(when) } : {}),
    },
  };
}
