"use client";

import { useEffect, useState } from "react";
import { formatBytes } from "@/core/units/bytes";
import { ApiError, callApi } from "../parts/api";
import { clockText } from "../parts/moment";
import type { TreeEntry } from "./file-tree";

interface ShownChange extends TreeEntry {
  readonly kind: "added" | "removed" | "changed";
  readonly sizeBefore: number | null;
}
interface Moment {
  readonly id: string;
  readonly moment: Date;
}
const WORDS = { added: "came", removed: "went", changed: "changed" } as const;

/** What differs between the chosen moment and another; what went is put into the basket as it was before. */
export function ChangedSince({
  chosen,
  points,
  zone,
  inBasket,
  toggle,
  close,
}: {
  chosen: Moment;
  /** Newest first. */
  points: readonly Moment[];
  zone: string;
  inBasket: (entry: TreeEntry) => boolean;
  toggle: (entry: TreeEntry) => void;
  close: () => void;
}) {
  const others = points.filter(({ id }) => id !== chosen.id);
  const before = others.find(({ moment }) => moment < chosen.moment) ?? others[0];
  const [sinceId, setSinceId] = useState(before?.id ?? "");
  const [answer, setAnswer] = useState<{ changes: readonly ShownChange[]; more: boolean } | null>(null);
  const [problem, setProblem] = useState<string | null>(null);
  const since = points.find(({ id }) => id === sinceId);
  useEffect(() => {
    if (!sinceId) return;
    let current = true;
    setAnswer(null);
    callApi<{ changes: ShownChange[]; more: boolean }>(
      "GET",
      `/recovery-points/${chosen.id}/changes?since=${sinceId}`,
    ).then(
      (got) => current && setAnswer(got),
      (error) => error instanceof ApiError && setProblem(error.problem.detail),
    );
    return () => {
      current = false;
    };
  }, [chosen.id, sinceId]);
  const counts = (kind: ShownChange["kind"]) =>
    answer?.changes.filter((change) => change.kind === kind).length ?? 0;
  return (
    <>
      <div className="flex items-center gap-3 px-4 py-[10px]">
        <h2 className="part-title whitespace-nowrap">Changed between</h2>
        <select
          className="select w-full"
          aria-label="Other recovery point"
          value={sinceId}
          onChange={(event) => setSinceId(event.target.value)}
        >
          {others.map((point) => (
            <option key={point.id} value={point.id}>
              {clockText(point.moment, zone)}
            </option>
          ))}
        </select>
        <span className="text-soft whitespace-nowrap">and {clockText(chosen.moment, zone)}</span>
        <button type="button" className="btn btn-plain" onClick={close}>
          Everything
        </button>
      </div>
      <div className="min-h-0 flex-1 overflow-y-auto px-4 pb-3" tabIndex={0}>
        {problem && (
          <p className="refused" role="alert">
            {problem}
          </p>
        )}
        {others.length === 0 && (
          <p className="text-soft">There is no other recovery point to compare with.</p>
        )}
        {sinceId && !answer && !problem && <p className="text-soft">Comparing…</p>}
        {answer && (
          <>
            <p className="text-soft pb-1">
              {answer.changes.length === 0
                ? "Nothing differs."
                : `${counts("changed")} changed, ${counts("added")} added, ${counts("removed")} removed${answer.more ? ", and more" : ""}.`}
            </p>
            <table className="grid-table table-fixed">
              <colgroup>
                <col />
                <col className="w-[90px]" />
                <col className="w-[160px]" />
              </colgroup>
              <thead className="sr-only">
                <tr>
                  <th scope="col">Name</th>
                  <th scope="col">What</th>
                  <th scope="col">Size</th>
                </tr>
              </thead>
              <tbody>
                {answer.changes.map((change) => {
                  const entry: TreeEntry =
                    change.kind === "removed" && since
                      ? { ...change, pointId: since.id, moment: since.moment.toISOString() }
                      : change;
                  return (
                    <tr key={change.path}>
                      <td className="!py-[4px]">
                        <label className="flex min-w-0 items-center gap-2">
                          <input
                            type="checkbox"
                            className="checkbox checkbox-xs"
                            aria-label={`Add to basket: ${change.path}`}
                            checked={inBasket(entry)}
                            onChange={() => toggle(entry)}
                          />
                          <span className="truncate" title={change.path}>
                            {change.name}{" "}
                            <span className="text-soft font-mono text-[12px]">
                              {change.path.slice(0, change.path.lastIndexOf("/")) || "/"}
                            </span>
                          </span>
                        </label>
                      </td>
                      <td className={`!py-[4px] ${change.kind === "removed" ? "text-error" : ""}`}>
                        {WORDS[change.kind]}
                      </td>
                      <td className="num !py-[4px]">
                        {change.kind === "changed" && change.sizeBefore !== null && change.size !== null
                          ? `${formatBytes(change.sizeBefore)} → ${formatBytes(change.size)}`
                          : change.size === null
                            ? "folder"
                            : formatBytes(change.size)}
                      </td>
                    </tr>
                  );
                })}
              </tbody>
            </table>
          </>
        )}
      </div>
    </>
  );
}
