"use client";

import { formatBytes } from "@/core/units/bytes";
import { RateDrawing } from "../drawings/rate-drawing";
import { useTape } from "./live";
import { moreThanGuessed, progressText, type RunProgressShown, shareDone, ThinBar } from "./progress";

/** A run's progress as the events tell it, without reloading. */
export function LiveProgress({
  runId,
  initial,
  waits,
}: {
  runId: string;
  initial: RunProgressShown;
  waits: string | null;
}) {
  const run = useTape().find((one) => one.id === runId);
  const progress = run?.progress ?? initial;
  if (waits && (!run || run.state === "due")) return <p className="said">{waits}</p>;
  const share = shareDone(progress);
  return (
    <div className="grid gap-2" role="status" aria-live="off">
      <ThinBar share={share} label="Progress of this run" width={370} />
      <p className="font-semibold">{progressText(progress)}</p>
      <p className="text-soft">
        {(progress.items ?? 0).toLocaleString("en-GB")}
        {progress.totalItems ? ` of about ${progress.totalItems.toLocaleString("en-GB")}` : ""} items,{" "}
        {formatBytes(progress.bytes ?? 0)}
        {moreThanGuessed(progress)
          ? ` passed, more than the ${formatBytes(progress.totalBytes ?? 0)} of last time`
          : `${progress.totalBytes ? ` of about ${formatBytes(progress.totalBytes)}` : ""} passed`}
      </p>
      <RateDrawing rates={progress.rates} />
    </div>
  );
}
