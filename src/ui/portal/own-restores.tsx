"use client";

import { restoreWords } from "@/core/protection/own-restore";
import { counted } from "@/core/units/duration";
import { shareDone, ThinBar } from "../frame/progress";
import { showRefusal } from "../parts/actions";
import { callApi } from "../parts/api";
import { clockText } from "../parts/moment";
import { type AllGiven, plainName } from "./given";

/** What the person asked for lately, and what became of it. */
export function OwnRestores({ given, look }: { given: AllGiven; look: () => Promise<void> }) {
  const waiting = given.asks.filter((ask) => ask.decision !== "agreed");
  if (given.restores.length + waiting.length === 0) return null;
  const { zone } = given.client;
  return (
    <section aria-label="Your restores">
      <h2 className="mb-1 text-[18px]">Your restores</h2>
      <ul aria-live="polite">
        {waiting.map((ask) => (
          <li key={ask.id} className="border-line border-b py-2">
            <span className="text-soft">{clockText(new Date(ask.askedAt), zone)}</span> ·{" "}
            {ask.decision === "declined"
              ? `${ask.decidedBy} declined: ${counted(ask.files, "file")} of ${plainName(ask.sourceName)} stay as they are.`
              : `${counted(ask.files, "file")} of ${plainName(ask.sourceName)}: waiting for your manager’s approval, until ${clockText(new Date(ask.expiresAt), zone)}.`}
          </li>
        ))}
        {given.restores.map((restore) => (
          <li
            key={restore.id}
            className="border-line grid gap-1 border-b py-2"
            data-own={restore.outcome ?? ""}
          >
            <span>
              <span className="text-soft">
                {clockText(new Date(restore.dueAt), zone)} · {plainName(restore.sourceName)}
              </span>{" "}
              {restoreWords(restore, plainName(restore.sourceName))}
            </span>
            {restore.state !== "ended" && (
              <span className="flex items-center gap-4">
                <ThinBar
                  share={shareDone(restore.progress)}
                  label={`Progress of ${plainName(restore.sourceName)}`}
                />
                <button
                  type="button"
                  className="text-primary underline"
                  onClick={() =>
                    callApi("POST", `/given/restores/${restore.id}/stop`).then(look, showRefusal)
                  }
                >
                  Stop
                </button>
              </span>
            )}
          </li>
        ))}
      </ul>
    </section>
  );
}
