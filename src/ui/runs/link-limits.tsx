"use client";

import { useRouter } from "next/navigation";
import { useState } from "react";
import { type BandwidthHours, bandwidthWords } from "@/core/policy/conduct";
import { callApi } from "../parts/api";
import { Refusal, TextField, useSending } from "../parts/form";
import { say } from "../parts/say";
import { BandwidthFields, bandDrafts, bandsOf } from "../policies/conduct-fields";

export interface LimitedLink {
  readonly name: string;
  /** Where its limits are set. */
  readonly path: string;
  readonly atOnce: number | null;
  /** Null where only the number of runs is limited. */
  readonly bandwidth: readonly BandwidthHours[] | null;
}

const number = (text: string): number => (/^\d+$/.test(text.trim()) ? Number(text) : Number.NaN);

/** What may run at once over a link or into a depot, and how fast all of it together. */
export function LinkLimits({ link }: { link: LimitedLink }) {
  const router = useRouter();
  const sending = useSending();
  const [open, setOpen] = useState(false);
  const [atOnce, setAtOnce] = useState(link.atOnce === null ? "" : String(link.atOnce));
  const [bands, setBands] = useState(bandDrafts(link.bandwidth ?? []));
  const words = [
    link.atOnce === null ? "any number of simultaneous runs" : `${link.atOnce} simultaneous`,
    link.bandwidth?.length ? `together at most ${bandwidthWords(link.bandwidth)}` : null,
  ].filter(Boolean);
  const save = () =>
    sending.send(async () => {
      const wished = { atOnce: atOnce.trim() === "" ? null : number(atOnce) };
      await callApi(
        link.bandwidth ? "PUT" : "PATCH",
        link.path,
        link.bandwidth ? { ...wished, bandwidth: bandsOf(bands, number) } : wished,
      );
      say.success(`Limits of ${link.name} saved.`);
      setOpen(false);
      router.refresh();
    });
  return (
    <div className="border-line grid gap-2 border-b py-2">
      <span>
        <b>{link.name}</b> <span className="text-soft">{words.join("; ")}</span>{" "}
        <button type="button" className="text-primary underline" onClick={() => setOpen(!open)}>
          {open ? "Cancel" : "Change…"}
        </button>
      </span>
      {open && (
        <div className="grid gap-3">
          <TextField
            label="Concurrent runs (optional limit)"
            inputMode="numeric"
            value={atOnce}
            error={sending.errorOf("atOnce")}
            onChange={(event) => setAtOnce(event.target.value)}
          />
          {link.bandwidth && (
            <BandwidthFields drafts={bands} set={setBands} errorOf={(field) => sending.errorOf(field)} />
          )}
          <Refusal problem={sending.problem?.errors.length ? null : sending.problem} />
          <div>
            <button type="button" className="btn btn-primary" disabled={sending.busy} onClick={save}>
              Save limits
            </button>
          </div>
        </div>
      )}
    </div>
  );
}
