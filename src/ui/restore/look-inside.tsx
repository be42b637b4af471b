"use client";

import { X } from "lucide-react";
import { useEffect, useState } from "react";
import type { ComparedLine } from "@/core/text/text";
import { formatBytes } from "@/core/units/bytes";
import { ApiError, callApi } from "../parts/api";

type Look =
  | { readonly kind: "text"; readonly text: string; readonly cut: boolean; readonly size: number }
  | { readonly kind: "image"; readonly size: number }
  | { readonly kind: "other"; readonly size: number };
type Comparison =
  | { readonly kind: "text"; readonly places: readonly (readonly ComparedLine[])[] }
  | { readonly kind: "other"; readonly why: string };

/** What is looked at: a file at a moment, or what differs in it from an earlier one. */
export interface Looking {
  /** Of the point in the API. */
  readonly address: string;
  readonly path: string;
  readonly name: string;
  /** The moment in words. */
  readonly moment: string;
  readonly since: { readonly pointId: string; readonly moment: string } | null;
}

/** A file as it was: its text, its picture, or what differs from an earlier version line by line. */
export function LookInside({ looking, close }: { looking: Looking; close: () => void }) {
  const { address, path, name, moment, since } = looking;
  const [look, setLook] = useState<Look | null>(null);
  const [comparison, setComparison] = useState<Comparison | null>(null);
  const [problem, setProblem] = useState<string | null>(null);
  const query = `path=${encodeURIComponent(path)}`;
  useEffect(() => {
    let current = true;
    setLook(null);
    setComparison(null);
    setProblem(null);
    const asked = since
      ? callApi<{ comparison: Comparison }>(
          "GET",
          `${address}/comparison?${query}&since=${since.pointId}`,
        ).then((answer) => current && setComparison(answer.comparison))
      : callApi<{ look: Look }>("GET", `${address}/look?${query}`).then(
          (answer) => current && setLook(answer.look),
        );
    asked.catch((error) => current && error instanceof ApiError && setProblem(error.problem.detail));
    return () => {
      current = false;
    };
  }, [address, query, since]);
  return (
    <section className="flex min-h-0 flex-1 flex-col" aria-label={`Inside ${name}`}>
      <h3 className="part-title flex items-center gap-2 px-4 py-[10px]">
        <span className="min-w-0 flex-1 truncate">
          {name} · {since ? `from ${since.moment} to ${moment}` : `as it was ${moment}`}
        </span>
        <button type="button" className="p-1" aria-label="Back to the files" onClick={close}>
          <X size={14} />
        </button>
      </h3>
      <div className="min-h-0 flex-1 overflow-auto px-4 pb-3" tabIndex={0}>
        {problem && (
          <p className="refused" role="alert">
            {problem}
          </p>
        )}
        {!look && !comparison && !problem && <p className="text-soft">Reading…</p>}
        {look?.kind === "text" && (
          <>
            {look.cut && (
              <p className="warned mb-2">
                The beginning of it; in all it is {formatBytes(look.size)}. Restore it to see the rest.
              </p>
            )}
            <pre className="font-mono text-[12.5px] leading-[1.45] break-words whitespace-pre-wrap">
              {look.text || "It is empty."}
            </pre>
          </>
        )}
        {look?.kind === "image" && (
          // the picture is the client's own and comes from the API as it is
          // biome-ignore lint/performance/noImgElement: nothing of it may be made smaller or kept elsewhere
          <img
            className="max-h-full max-w-full"
            src={`/api/v1${address}/image?${query}`}
            alt={`${name}, as it was ${moment}`}
          />
        )}
        {look?.kind === "other" && (
          <p>
            It is neither text nor a picture that can be shown here ({formatBytes(look.size)}). Put it into
            the basket and download it to open it with its own program.
          </p>
        )}
        {comparison?.kind === "other" && <p>{comparison.why}</p>}
        {comparison?.kind === "text" && comparison.places.length === 0 && (
          <p>The text is the same in both.</p>
        )}
        {comparison?.kind === "text" &&
          comparison.places.map((place) => (
            <Place key={`${place[0]?.before ?? ""} ${place[0]?.after ?? ""}`} place={place} />
          ))}
      </div>
    </section>
  );
}

const SIGN: Readonly<Record<ComparedLine["kind"], readonly [sign: string, words: string, look: string]>> = {
  same: ["", "", ""],
  added: ["+", "came", "bg-[var(--verdigris-soft)]"],
  removed: ["−", "went", "bg-[var(--brass-soft)]"],
};

/** One place that differs, with the lines around it. */
function Place({ place }: { place: readonly ComparedLine[] }) {
  return (
    <table className="border-line mb-3 w-full border-y font-mono text-[12.5px] leading-[1.45]">
      <thead className="sr-only">
        <tr>
          <th scope="col">Line before</th>
          <th scope="col">Line after</th>
          <th scope="col">What</th>
          <th scope="col">Text</th>
        </tr>
      </thead>
      <tbody>
        {place.map((line) => {
          const [sign, words, look] = SIGN[line.kind];
          return (
            <tr key={`${line.before ?? ""} ${line.after ?? ""}`} className={look}>
              <td className="text-soft w-[44px] pr-2 text-right align-top">{line.before}</td>
              <td className="text-soft w-[44px] pr-2 text-right align-top">{line.after}</td>
              <td className="w-[16px] align-top font-bold">
                {sign && (
                  <>
                    <span aria-hidden="true">{sign}</span>
                    <span className="sr-only">{words}</span>
                  </>
                )}
              </td>
              <td className="break-words whitespace-pre-wrap">{line.text}</td>
            </tr>
          );
        })}
      </tbody>
    </table>
  );
}
