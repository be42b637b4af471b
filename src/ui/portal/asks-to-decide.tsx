"use client";

import { useCallback, useEffect, useState } from "react";
import { formatBytes } from "@/core/units/bytes";
import { counted } from "@/core/units/duration";
import { showRefusal } from "../parts/actions";
import { callApi } from "../parts/api";
import { clockText } from "../parts/moment";
import { type AskShown, plainName } from "./given";

/** Restores of the client's people that wait for their manager. */
export function AsksToDecide({ zone, decided }: { zone: string; decided: () => Promise<void> }) {
  const [asks, setAsks] = useState<readonly AskShown[]>([]);
  const look = useCallback(
    () => callApi<{ asks: AskShown[] }>("GET", "/asks").then((answer) => setAsks(answer.asks), showRefusal),
    [],
  );
  useEffect(() => void look(), [look]);
  if (asks.length === 0) return null;
  const decide = async (id: string, decision: "agreed" | "declined") => {
    try {
      await callApi("POST", `/asks/${id}/decision`, { decision });
    } catch (error) {
      showRefusal(error);
    }
    await Promise.all([look(), decided()]);
  };
  return (
    <section className="warned grid gap-3" aria-label="Waiting for your approval">
      <h2 className="text-[18px]">Waiting for your approval</h2>
      {asks.map((ask) => (
        <div key={ask.id} className="flex flex-wrap items-center gap-3" data-ask={ask.id}>
          <p className="min-w-[260px] flex-1">
            <b>{ask.personName}</b> would like {counted(ask.files, "file")} ({formatBytes(ask.bytes)}) of{" "}
            {plainName(ask.sourceName)} back{ask.folder ? ` in ${ask.folder}` : ", where they were"}:{" "}
            <span className="font-mono text-[14px]">{ask.paths.join(", ")}</span>. Asked{" "}
            {clockText(new Date(ask.askedAt), zone)}. Nothing is replaced by it.
          </p>
          <button type="button" className="btn btn-primary" onClick={() => void decide(ask.id, "agreed")}>
            Agree
          </button>
          <button type="button" className="btn btn-plain" onClick={() => void decide(ask.id, "declined")}>
            Decline
          </button>
        </div>
      ))}
    </section>
  );
}
