"use client";

import { useEffect, useState } from "react";
import { CLAUSE_TITLES, type ClauseName } from "@/core/policy/cascade";
import { ApiError, callApi } from "../parts/api";

/** A wish for rules, as the preview takes it. */
export interface Wish {
  readonly policyId: string | null;
  readonly owner: { readonly level: string; readonly ownerId: string } | null;
  readonly clauses: unknown;
  readonly pins: readonly string[];
}

interface Preview {
  readonly total: number;
  readonly secondPerson: number;
  readonly effects: readonly {
    readonly sourceId: string;
    readonly sourceName: string;
    readonly clientName: string;
    readonly changes: readonly {
      readonly clause: ClauseName;
      readonly before: string | null;
      readonly after: string | null;
    }[];
    readonly overruled: readonly ClauseName[];
    readonly stops: boolean;
  }[];
}

/** What would change, and for which sources, if the rules were saved as they stand. */
export function RuleEffects({ wish }: { wish: Wish | null }) {
  const [preview, setPreview] = useState<Preview | null>(null);
  const asked = wish && JSON.stringify(wish);
  useEffect(() => {
    setPreview(null);
    if (!asked) return;
    let current = true;
    const timer = setTimeout(() => {
      callApi<Preview>("POST", "/rules/preview", JSON.parse(asked)).then(
        (answer) => current && setPreview(answer),
        (error) => {
          if (!(error instanceof ApiError)) throw error;
        },
      );
      // a list of sources is read when the typing rests; it must not hold up what follows
    }, 400);
    return () => {
      current = false;
      clearTimeout(timer);
    };
  }, [asked]);
  if (!wish) return null;
  return (
    <section aria-live="polite">
      <h3 className="mb-1 font-semibold">Effects of the change</h3>
      {!preview && <p className="text-soft">Looking…</p>}
      {preview?.total === 0 && <p>Nothing, for any source.</p>}
      {preview && preview.secondPerson > 0 && (
        <p className="warned mb-2">
          Points of {preview.secondPerson === 1 ? "one source" : `${preview.secondPerson} sources`} would be
          kept for a shorter time: a second person must agree before anything is saved.
        </p>
      )}
      <ul className="grid gap-2">
        {preview?.effects.slice(0, 12).map((effect) => (
          <li key={effect.sourceId} className="border-line border-b pb-2">
            <p className="flex gap-2">
              <b className="min-w-0 flex-1 truncate">{effect.sourceName}</b>
              <span className="text-soft truncate text-[13px]">{effect.clientName}</span>
            </p>
            {effect.changes.map((change) => (
              <p key={change.clause} className="text-[13px]">
                {CLAUSE_TITLES[change.clause]}:{" "}
                {change.before && <del className="text-soft">{change.before}</del>}{" "}
                {change.after ?? "not set at any level"}
              </p>
            ))}
            {effect.overruled.map((clause) => (
              <p key={clause} className="text-soft text-[13px]">
                {CLAUSE_TITLES[clause]}: a wider level pins it, so this counts for nothing here.
              </p>
            ))}
            {effect.stops && (
              <p className="text-[13px]">A clause is missing at every level: no runs would take place.</p>
            )}
          </li>
        ))}
      </ul>
      {preview && preview.total > 12 && (
        <p className="text-soft mt-1">and {preview.total - 12} more sources</p>
      )}
    </section>
  );
}
