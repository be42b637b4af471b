import type { ComponentType } from "react";

/** What the fields of a kind's What are given. `Draft`: what is typed. */
export interface WhatFieldsProps<Draft> {
  readonly draft: Draft;
  readonly set: (change: Partial<Draft>) => void;
  /** The error of a field of the part, such as `folders`. */
  readonly errorOf: (field: string) => string | undefined;
  /** Sources of files that it can be tried out on. */
  readonly sources: readonly { readonly id: string; readonly name: string }[];
  /** Volumes of machines besides their root, to choose from. */
  readonly volumes: readonly string[];
}

interface TypedWhatForm<What, Draft> {
  readonly draftOf: (what: What | undefined) => Draft;
  /** What is typed as a part of the clause; its schema has not checked it. */
  readonly clauseOf: (draft: Draft) => unknown;
  readonly Fields: ComponentType<WhatFieldsProps<Draft>>;
}
export type AnyDraft = Readonly<Record<string, unknown>>;
/** The form of a kind for who knows no kind: its draft is passed on as it is. */
export type WhatForm<What> = TypedWhatForm<What, AnyDraft>;

export const whatForm = <What, Draft extends object>(form: TypedWhatForm<What, Draft>): WhatForm<What> =>
  form as unknown as WhatForm<What>;

/** The lines of a field, without empty ones. */
export const linesOf = (text: string): string[] =>
  text
    .split("\n")
    .map((line) => line.trim())
    .filter(Boolean);
