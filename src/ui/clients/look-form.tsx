"use client";

import { useRouter } from "next/navigation";
import { useRef, useState } from "react";
import { COLOUR_TEXT, contrast, READABLE } from "@/core/look/contrast";
import { callApi } from "../parts/api";
import { Field, Refusal, useSending } from "../parts/form";
import { say } from "../parts/say";

/** The console's own colour, from which a choice begins. */
const OWN = "#00605a";

/** A file as base64, for the API. */
async function base64Of(file: File): Promise<string> {
  const bytes = new Uint8Array(await file.arrayBuffer());
  let text = "";
  for (let at = 0; at < bytes.length; at += 0x8000)
    text += String.fromCharCode(...bytes.subarray(at, at + 0x8000));
  return btoa(text);
}

/** Colour and logo of a client's statement and portal. */
export function LookForm({
  clientId,
  colour,
  logo,
}: {
  clientId: string;
  colour: string | null;
  /** Address of the logo; null for none. */
  logo: string | null;
}) {
  const router = useRouter();
  const sending = useSending();
  const [wished, setWished] = useState(colour ?? OWN);
  const file = useRef<HTMLInputElement>(null);
  const ratio = COLOUR_TEXT.test(wished) ? contrast(wished, "#ffffff") : null;
  const save = (change: { readonly colour?: string | null; readonly logo?: string | null }, done: string) =>
    sending.send(async () => {
      await callApi("PUT", `/clients/${clientId}/look`, change);
      say.success(done);
      if (file.current) file.current.value = "";
      router.refresh();
    });
  return (
    <section className="grid gap-3" aria-label="Appearance">
      <h2 className="text-[15px] font-bold">Appearance</h2>
      <p className="text-soft text-[13px]">Colour and logo of this client’s statement and portal.</p>
      <Field label="Colour" error={sending.errorOf("colour")}>
        {(id, invalid, described) => (
          <div className="flex flex-wrap items-center gap-2">
            <input
              id={id}
              type="color"
              className="border-line h-9 w-14 border"
              value={wished}
              aria-invalid={invalid}
              aria-describedby={described}
              onChange={(event) => setWished(event.target.value)}
            />
            <span className="rounded px-2 py-1 text-[13px] text-white" style={{ background: wished }}>
              {wished}
            </span>
            {ratio !== null && (
              <span className={ratio < READABLE ? "text-error text-[13px]" : "text-soft text-[13px]"}>
                contrast on white {ratio.toFixed(1)} : 1{ratio < READABLE ? `, ${READABLE} required` : ""}
              </span>
            )}
          </div>
        )}
      </Field>
      <div className="flex flex-wrap gap-2">
        <button
          type="button"
          className="btn btn-plain"
          disabled={sending.busy || wished === colour}
          onClick={() => save({ colour: wished }, "Colour saved.")}
        >
          Save colour
        </button>
        {colour && (
          <button
            type="button"
            className="btn btn-plain"
            disabled={sending.busy}
            onClick={() => {
              setWished(OWN);
              void save({ colour: null }, "Colour reset.");
            }}
          >
            Reset colour
          </button>
        )}
      </div>
      <Field
        label="Logo"
        error={sending.errorOf("logo")}
        help="A PNG or JPEG image up to 512 KiB. It is stored as a PNG of at most 640 × 192 pixels; only its pixels are kept."
      >
        {(id, invalid, described) => (
          <div className="grid gap-2">
            {logo && (
              // biome-ignore lint/performance/noImgElement: a small picture of this console's own API
              <img src={logo} alt="Current logo" className="max-h-12 max-w-40 bg-white p-1" />
            )}
            <input
              ref={file}
              id={id}
              type="file"
              accept="image/png,image/jpeg"
              className="text-[13px]"
              aria-invalid={invalid}
              aria-describedby={described}
              disabled={sending.busy}
              onChange={async (event) => {
                const [chosen] = event.target.files ?? [];
                if (chosen) await save({ logo: await base64Of(chosen) }, "Logo saved.");
              }}
            />
          </div>
        )}
      </Field>
      {logo && (
        <div>
          <button
            type="button"
            className="btn btn-plain"
            disabled={sending.busy}
            onClick={() => save({ logo: null }, "Logo removed.")}
          >
            Remove logo
          </button>
        </div>
      )}
      <Refusal problem={sending.problem?.errors.length ? null : sending.problem} />
    </section>
  );
}
