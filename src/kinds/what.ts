import { z } from "zod";
import { type DatabaseWhat, databaseWhat, databaseWhatSentence } from "./database/what";
import { type FileWhat, fileWhat, fileWhatSentence } from "./files/what";
import { type GuestWhat, guestWhat, guestWhatSentence } from "./guest/what";
import { SOURCE_KINDS, type SourceKind } from "./index";
import { type LibraryWhat, libraryWhat, libraryWhatSentence } from "./library/what";
import { type MailWhat, mailWhat, mailWhatSentence } from "./mail/what";

/** What a policy protects of a source of each kind. */
export interface WhatOf extends Record<SourceKind, object> {
  readonly files: FileWhat;
  readonly mail: MailWhat;
  readonly database: DatabaseWhat;
  readonly guest: GuestWhat;
  readonly library: LibraryWhat;
}

const SCHEMAS = {
  files: fileWhat.optional(),
  mail: mailWhat.optional(),
  database: databaseWhat.optional(),
  guest: guestWhat.optional(),
  library: libraryWhat.optional(),
} as const satisfies Record<SourceKind, z.ZodType>;
const SENTENCES: { readonly [Id in SourceKind]: (what: WhatOf[Id]) => string } = {
  files: fileWhatSentence,
  mail: mailWhatSentence,
  database: databaseWhatSentence,
  guest: guestWhatSentence,
  library: libraryWhatSentence,
};

/** The clause What: one part for each kind of source that the policy applies to. */
export const whatClause = z
  .object(SCHEMAS)
  .refine((what) => SOURCE_KINDS.some((kind) => what[kind] !== undefined), {
    when: ({ issues }) => issues.length === 0,
    message: `Choose at least one kind of source: ${SOURCE_KINDS.join(", ")}.`,
  });
export type What = z.infer<typeof whatClause>;

export const kindsOf = (what: What | undefined): SourceKind[] =>
  SOURCE_KINDS.filter((kind) => what?.[kind] !== undefined);

/** The clause as a sentence. */
export const whatSentence = (what: What): string =>
  kindsOf(what)
    .map((kind, i) => {
      const sentence = (SENTENCES[kind] as (part: object) => string)(what[kind]!);
      return i === 0 ? sentence : `${sentence[0]!.toLowerCase()}${sentence.slice(1)}`;
    })
    .join("; ");

/**
 * A clause that an earlier version stored: one selection for files and mail alike. It keeps what it selected: of machines
 * that, and of mailboxes the same folders, where it named them or all. `kinds`: those of the sources that it applied to,
 * where that is known.
 */
export function upgradedWhat(value: unknown, kinds?: readonly string[]): unknown {
  if (!value || typeof value !== "object" || !("folders" in value)) return value;
  const { folders, exclude = [] } = value as { folders: unknown; exclude?: readonly unknown[] };
  const all = Array.isArray(folders) && folders.includes("/");
  const mail = kinds ? kinds.includes("mail") : all;
  return {
    ...(!kinds || kinds.includes("files") || !mail ? { files: value } : {}),
    ...(mail ? { mail: { folders: all ? [] : folders, exclude } } : {}),
  };
}
