"use client";

import { X } from "lucide-react";
import { useEffect, useState } from "react";
import { formatBytes } from "@/core/units/bytes";
import { ApiError, callApi } from "../parts/api";
import { clockText } from "../parts/moment";
import type { TreeEntry } from "./file-tree";
import type { Looking } from "./look-inside";

export interface FileVersion {
  readonly pointId: string;
  readonly moment: string;
  readonly firstSeen: string;
  readonly size: number | null;
  readonly modified: string;
  readonly sizeChange: number | null;
}

/** What is looked at in a version of a file, in words. `pointsAt` is where the API has the points. */
export const lookingAt = (
  pointsAt: string,
  entry: TreeEntry,
  version: FileVersion,
  before: FileVersion | null,
  zone: string,
): Looking => ({
  address: `${pointsAt}/${version.pointId}`,
  path: entry.path,
  name: entry.name,
  moment: clockText(new Date(version.moment), zone),
  since: before && { pointId: before.pointId, moment: clockText(new Date(before.moment), zone) },
});

/** A file's versions over all points of its source. */
export function Versions({
  address,
  entry,
  zone,
  points,
  put,
  isIn,
  look,
  close,
}: {
  /** Of the versions in the API. */
  address: string;
  entry: TreeEntry;
  zone: string;
  points: number;
  put: (version: FileVersion) => void;
  isIn: (version: FileVersion) => boolean;
  /** Looks inside a version, or at what differs in it from the one before. */
  look: (version: FileVersion, before: FileVersion | null) => void;
  close: () => void;
}) {
  const [versions, setVersions] = useState<readonly FileVersion[] | null>(null);
  const [problem, setProblem] = useState<string | null>(null);
  useEffect(() => {
    let current = true;
    setVersions(null);
    callApi<{ versions: FileVersion[] }>("GET", `${address}?path=${encodeURIComponent(entry.path)}`).then(
      (answer) => current && setVersions(answer.versions),
      (error) => error instanceof ApiError && setProblem(error.problem.detail),
    );
    return () => {
      current = false;
    };
  }, [address, entry.path]);
  return (
    <section
      className="border-base-300 max-h-[240px] overflow-y-auto border-t px-4 py-2"
      aria-label={`Versions of ${entry.name}`}
      tabIndex={0}
    >
      <h3 className="part-title flex items-center">
        <span className="flex-1 truncate">
          {entry.name} ·{" "}
          {versions
            ? `${versions.length} ${versions.length === 1 ? "version" : "versions"} in ${points} points`
            : "looking through all points…"}
        </span>
        <button type="button" className="p-1" aria-label="Close the versions" onClick={close}>
          <X size={14} />
        </button>
      </h3>
      {problem && <p className="refused">{problem}</p>}
      <table className="grid-table">
        <thead className="sr-only">
          <tr>
            <th scope="col">Moment</th>
            <th scope="col" className="max-[1500px]:hidden">
              Changed
            </th>
            <th scope="col">Size</th>
            <th scope="col">Against the one before</th>
            <th scope="col">Inside</th>
            <th scope="col">Basket</th>
          </tr>
        </thead>
        <tbody>
          {versions?.map((version, i) => (
            <tr key={version.pointId}>
              <td className="!py-[4px]">{clockText(new Date(version.moment), zone)}</td>
              <td className="text-soft !py-[4px] max-[1500px]:hidden">
                changed {clockText(new Date(version.modified), zone)}
              </td>
              <td className="num !py-[4px]">{version.size === null ? "" : formatBytes(version.size)}</td>
              <td className="num text-soft !py-[4px]">
                {version.sizeChange === null
                  ? "first seen"
                  : version.sizeChange === 0
                    ? "same size"
                    : `${version.sizeChange > 0 ? "+" : ""}${formatBytes(version.sizeChange)}`}
              </td>
              <td className="num !py-[4px] whitespace-nowrap">
                <button type="button" className="text-primary underline" onClick={() => look(version, null)}>
                  look
                </button>
                {versions[i + 1] && (
                  <button
                    type="button"
                    className="text-primary ml-3 underline"
                    onClick={() => look(version, versions[i + 1]!)}
                  >
                    what changed
                  </button>
                )}
              </td>
              <td className="num !py-[4px] whitespace-nowrap">
                {isIn(version) ? (
                  <span className="text-soft">in the basket</span>
                ) : (
                  <button type="button" className="text-primary underline" onClick={() => put(version)}>
                    into the basket
                  </button>
                )}
              </td>
            </tr>
          ))}
        </tbody>
      </table>
    </section>
  );
}
