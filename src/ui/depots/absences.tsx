"use client";

import { DateTime } from "luxon";
import { useRouter } from "next/navigation";
import { useState } from "react";
import { ActionButton } from "../parts/actions";
import { callApi } from "../parts/api";
import { Refusal, TextField, useSending } from "../parts/form";
import { say } from "../parts/say";

/** What a field for a date and a time holds is by the clock of the page's zone, not of the browser's. */
const moment = (text: string, zone: string): string | undefined =>
  text ? (DateTime.fromISO(text, { zone }).toUTC().toISO() ?? text) : undefined;

/** When a depot is away by plan; runs wait meanwhile. */
export function Absences({
  depotId,
  zone,
  absences,
}: {
  depotId: string;
  zone: string;
  absences: readonly { readonly id: string; readonly text: string; readonly note: string }[];
}) {
  const router = useRouter();
  const sending = useSending();
  const [open, setOpen] = useState(false);
  const [values, setValues] = useState({ from: "", to: "", note: "" });
  const field = (key: keyof typeof values) => ({
    error: sending.errorOf(key),
    value: values[key],
    onChange: (event: { target: { value: string } }) => setValues({ ...values, [key]: event.target.value }),
  });
  return (
    <div className="grid gap-2">
      {absences.map((absence) => (
        <div key={absence.id} className="border-line flex items-start gap-3 border-b pb-2">
          <span className="flex-1">
            {absence.text}
            <span className="text-soft block text-[13px]">{absence.note}</span>
          </span>
          <ActionButton
            action={() => callApi("DELETE", `/depots/${depotId}/absences/${absence.id}`)}
            done="Absence removed. Waiting runs start."
          >
            Remove
          </ActionButton>
        </div>
      ))}
      {open ? (
        <form
          className="grid gap-3"
          onSubmit={(event) => {
            event.preventDefault();
            void sending.send(async () => {
              await callApi("POST", `/depots/${depotId}/absences`, {
                from: moment(values.from, zone),
                to: moment(values.to, zone),
                note: values.note,
              });
              say.success("Absence saved. Runs to this depot wait until it is back.");
              setValues({ from: "", to: "", note: "" });
              setOpen(false);
              router.refresh();
            });
          }}
        >
          <div className="grid grid-cols-2 gap-3">
            <TextField label={`Absent from (${zone})`} type="datetime-local" {...field("from")} />
            <TextField label={`Back at (${zone})`} type="datetime-local" {...field("to")} />
          </div>
          <TextField
            label="Location during the absence"
            placeholder="in the drawer at Mill surgery"
            {...field("note")}
          />
          <Refusal problem={sending.problem} />
          <div className="flex gap-2">
            <button type="submit" className="btn btn-primary" disabled={sending.busy}>
              Save
            </button>
            <button type="button" className="btn btn-plain" onClick={() => setOpen(false)}>
              Cancel
            </button>
          </div>
        </form>
      ) : (
        <div>
          <button type="button" className="btn btn-plain" onClick={() => setOpen(true)}>
            Plan an absence…
          </button>
        </div>
      )}
    </div>
  );
}
