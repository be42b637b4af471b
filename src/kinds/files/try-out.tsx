"use client";

import { useState } from "react";
import { formatBytes } from "@/core/units/bytes";
import { counted } from "@/core/units/duration";
import { callApi } from "@/ui/parts/api";
import { Refusal, SelectField, useSending } from "@/ui/parts/form";

interface Tried {
  readonly moment: string;
  readonly taken: { readonly files: number; readonly bytes: number };
  readonly left: { readonly files: number; readonly bytes: number };
  readonly largestLeft: readonly { readonly path: string; readonly size: number }[];
  readonly missing: readonly string[];
}

/** Tries a selection out on the newest recovery point of a source: what it takes, what it leaves, how much. */
export function TryOut({
  what,
  sources,
}: {
  what: unknown;
  sources: readonly { readonly id: string; readonly name: string }[];
}) {
  const sending = useSending();
  const [sourceId, setSourceId] = useState(sources[0]!.id);
  const [tried, setTried] = useState<(Tried & { readonly of: string }) | null>(null);
  const asked = JSON.stringify(what);
  const ask = () =>
    sending.send(async () => {
      const answer = await callApi<Tried>("POST", `/sources/${sourceId}/selection`, { files: what });
      setTried({ ...answer, of: asked });
    });
  return (
    <div className="border-line grid gap-2 border-t pt-2">
      <div className="flex items-end gap-2">
        <div className="min-w-0 flex-1">
          <SelectField
            label="Try it out on"
            value={sourceId}
            onChange={(event) => {
              setSourceId(event.target.value);
              setTried(null);
            }}
          >
            {sources.map((source) => (
              <option key={source.id} value={source.id}>
                {source.name}
              </option>
            ))}
          </SelectField>
        </div>
        <button type="button" className="btn btn-plain" disabled={sending.busy} onClick={ask}>
          Try
        </button>
      </div>
      <Refusal problem={sending.problem} />
      {tried && (
        <div className={tried.of === asked ? "" : "opacity-60"}>
          <p>
            It takes {counted(tried.taken.files, "file")}, {formatBytes(tried.taken.bytes)}, and leaves{" "}
            {counted(tried.left.files, "file")}, {formatBytes(tried.left.bytes)}, of what the newest point
            holds.
            {tried.of !== asked && " The fields were changed since."}
          </p>
          {tried.missing.length > 0 && (
            <p className="text-soft">
              {tried.missing.join(", ")} is not in that point, so its contents are not known yet.
            </p>
          )}
          {tried.largestLeft.length > 0 && (
            <ul className="text-soft mt-1 font-mono text-[12px]">
              {tried.largestLeft.map((file) => (
                <li key={file.path} className="flex justify-between gap-3">
                  <span className="truncate">{file.path}</span>
                  <span className="whitespace-nowrap">{formatBytes(file.size)}</span>
                </li>
              ))}
            </ul>
          )}
        </div>
      )}
    </div>
  );
}
