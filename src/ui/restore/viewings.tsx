"use client";

import { useRouter } from "next/navigation";
import { useState } from "react";
import { formatBytes } from "@/core/units/bytes";
import { counted } from "@/core/units/duration";
import { ActionButton } from "../parts/actions";
import { callApi } from "../parts/api";
import { FieldGroup, Refusal, SelectField, TextField, useSending } from "../parts/form";

export interface ShownViewing {
  readonly id: string;
  /** What it shows: the source, its moment and the folder. */
  readonly of: string;
  readonly madeBy: string;
  readonly until: string;
  readonly people: readonly {
    readonly name: string;
    readonly files: number;
    readonly bytes: number;
    readonly seen: boolean;
  }[];
}
interface Key {
  readonly person: string;
  readonly userName: string;
  readonly password: string;
}

/** Viewings that are open: who reads through them, until when; each can be closed. */
export function OpenViewings({ viewings }: { viewings: readonly ShownViewing[] }) {
  return (
    <ul className="grid gap-2">
      {viewings.map((viewing) => (
        <li key={viewing.id} className="border-line flex items-start gap-3 border-b pb-2">
          <div className="min-w-0 flex-1">
            <p className="truncate" title={viewing.of}>
              {viewing.of}
            </p>
            <p className="text-soft text-[12.5px]">
              until {viewing.until}, opened by {viewing.madeBy}
            </p>
            <p className="text-soft text-[12.5px]">
              {viewing.people
                .map(
                  (person) =>
                    `${person.name}: ${person.seen ? `${counted(person.files, "file")}, ${formatBytes(person.bytes)} read` : "not connected yet"}`,
                )
                .join(" · ")}
            </p>
          </div>
          <ActionButton
            action={() => callApi("DELETE", `/viewings/${viewing.id}`)}
            done="The viewing is closed."
          >
            Close
          </ActionButton>
        </li>
      ))}
    </ul>
  );
}

const HOURS = [
  [1, "for an hour"],
  [8, "for 8 hours"],
  [24, "for a day"],
  [72, "for three days"],
  [168, "for a week"],
] as const;

/** Opens the chosen moment, or a folder of it, as a network folder for chosen people. */
export function OpenAsFolder({
  pointId,
  moment,
  folder,
  people,
  viewings,
}: {
  pointId: string;
  /** The moment in words. */
  moment: string;
  /** The folder that is being looked at. */
  folder: string;
  people: readonly { readonly id: string; readonly name: string; readonly ours: boolean }[];
  viewings: readonly ShownViewing[];
}) {
  const router = useRouter();
  const sending = useSending();
  const [open, setOpen] = useState(false);
  const [path, setPath] = useState(folder);
  const [hours, setHours] = useState(8);
  const [chosen, setChosen] = useState<ReadonlySet<string>>(new Set());
  const [made, setMade] = useState<{ url: string; keys: readonly Key[] } | null>(null);
  const send = () =>
    sending.send(async () => {
      const answer = await callApi<{ viewing: { url: string }; keys: Key[] }>(
        "POST",
        `/recovery-points/${pointId}/viewings`,
        { path, hours, people: [...chosen] },
      );
      setMade({ url: answer.viewing.url, keys: answer.keys });
      setOpen(false);
      router.refresh();
    });
  const choose = (id: string, to: boolean) => {
    const next = new Set(chosen);
    if (to) next.add(id);
    else next.delete(id);
    setChosen(next);
  };
  return (
    <section className="border-line grid gap-2 border-t pt-3" aria-label="As a network folder">
      <h3 className="font-semibold">As a network folder</h3>
      <p className="text-soft text-[13px]">
        A read-only WebDAV address for any file manager. It expires automatically.
      </p>
      {made && (
        <div className="said grid gap-2">
          <p className="font-semibold">Shown once:</p>
          <p className="font-mono text-[12.5px] break-all select-all">{made.url}</p>
          {made.keys.map((key) => (
            <p key={key.userName}>
              {key.person}
              <span className="block font-mono text-[12.5px] select-all">{key.userName}</span>
              <span className="block font-mono text-[12.5px] select-all">{key.password}</span>
            </p>
          ))}
        </div>
      )}
      {!open && (
        <div>
          <button
            type="button"
            className="btn btn-plain h-auto min-h-[34px] py-1 text-left"
            onClick={() => {
              setPath(folder);
              setMade(null);
              setOpen(true);
            }}
          >
            Open {moment} for other people…
          </button>
        </div>
      )}
      {open && (
        <form
          className="grid gap-2"
          onSubmit={(event) => {
            event.preventDefault();
            void send();
          }}
        >
          <TextField
            label="Folder"
            mono
            value={path}
            error={sending.errorOf("path")}
            onChange={(event) => setPath(event.target.value)}
          />
          <SelectField
            label="How long"
            value={hours}
            error={sending.errorOf("hours")}
            onChange={(event) => setHours(Number(event.target.value))}
          >
            {HOURS.map(([value, words]) => (
              <option key={value} value={value}>
                {words}
              </option>
            ))}
          </SelectField>
          <FieldGroup legend="People with access" error={sending.errorOf("people")}>
            <div className="max-h-[150px] overflow-y-auto">
              {people.map((person) => (
                <label key={person.id} className="flex items-center gap-2 py-[2px]">
                  <input
                    type="checkbox"
                    className="checkbox checkbox-xs"
                    checked={chosen.has(person.id)}
                    onChange={(event) => choose(person.id, event.target.checked)}
                  />
                  {person.name}
                  {person.ours && <span className="text-soft">of ours</span>}
                </label>
              ))}
            </div>
          </FieldGroup>
          <Refusal problem={sending.problem?.errors.length ? null : sending.problem} />
          <div className="flex gap-2">
            <button type="submit" className="btn btn-primary" disabled={sending.busy}>
              Open it
            </button>
            <button type="button" className="btn btn-plain" onClick={() => setOpen(false)}>
              Cancel
            </button>
          </div>
        </form>
      )}
      {viewings.length > 0 && <OpenViewings viewings={viewings} />}
    </section>
  );
}
