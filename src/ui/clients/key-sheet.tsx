"use client";

import { useRouter } from "next/navigation";
import { useState } from "react";
import { callApi } from "../parts/api";
import { Refusal, TextField, useSending } from "../parts/form";
import { say } from "../parts/say";
import { KeyPaper, type MadeKey } from "./key-paper";

/** Makes the client's key, shows it this once, prints the sheet, and has one group typed to confirm it. */
export function KeySheet({
  clientId,
  clientName,
  made: madeBefore,
  askedGroup,
}: {
  clientId: string;
  clientName: string;
  /** A key was made, and nobody has confirmed it yet. */
  made: boolean;
  askedGroup: number | null;
}) {
  const router = useRouter();
  const sending = useSending();
  const [made, setMade] = useState<MadeKey | null>(null);
  const [typed, setTyped] = useState("");
  const [own, setOwn] = useState(false);
  const [passphrase, setPassphrase] = useState("");
  const asked = made?.askedGroup ?? askedGroup;
  const make = () =>
    sending.send(async () => {
      setMade(await callApi("POST", `/clients/${clientId}/key`, { passphrase: own ? passphrase : null }));
      setTyped("");
      router.refresh();
    });
  return (
    <div className="grid gap-3">
      {!made && (
        <>
          <p>
            {!madeBefore
              ? "The client needs a key before anything can be kept: 256 random bits, shown once, to be kept on paper."
              : "The key was created but not confirmed. If the key sheet is lost, create a new key: nothing is encrypted with this one yet."}
          </p>
          <label className="flex items-center gap-2">
            <input
              type="checkbox"
              className="checkbox checkbox-xs"
              checked={own}
              onChange={(event) => setOwn(event.target.checked)}
            />
            Not in escrow: it opens with a passphrase of the client’s
          </label>
          {own && (
            <TextField
              label="Passphrase"
              type="password"
              autoComplete="new-password"
              error={sending.errorOf("passphrase")}
              help="The passphrase is not stored. Browsing and restoring in the console require it; machines run without it. If it is lost, only the key sheet opens the recovery points."
              value={passphrase}
              onChange={(event) => setPassphrase(event.target.value)}
            />
          )}
          <div>
            <button
              type="button"
              className={`btn ${madeBefore ? "btn-plain" : "btn-primary"}`}
              disabled={sending.busy}
              onClick={make}
            >
              {madeBefore ? "Create new key" : "Create key"}
            </button>
          </div>
        </>
      )}
      {made && (
        <>
          <KeyPaper clientName={clientName} made={made} />
          <div className="border-base-300 border p-3">
            <p className="mb-2 font-semibold">Key sheet of {clientName}</p>
            <ol className="grid grid-cols-3 gap-x-5 gap-y-1 font-mono text-[15px]" data-key-groups>
              {made.groups.map((group, i) => (
                <li key={group}>
                  <span className="text-soft inline-block w-6 text-[12px]">{i + 1}</span>
                  <b>{group}</b>
                </li>
              ))}
            </ol>
            <p className="text-soft mt-2 text-[13px]">
              The last character of each group checks it. Whoever has this sheet and the depot can read
              everything of this client; without it and without the provider, nobody can.
            </p>
          </div>
          <div>
            <button type="button" className="btn btn-plain" onClick={() => window.print()}>
              Print the sheet
            </button>
          </div>
        </>
      )}
      {asked !== null && (
        <form
          className="grid max-w-[360px] gap-2"
          onSubmit={(event) => {
            event.preventDefault();
            void sending.send(async () => {
              await callApi("POST", `/clients/${clientId}/key/confirm`, { group: typed });
              say.success("The key is confirmed.");
              setMade(null);
              router.refresh();
            });
          }}
        >
          <TextField
            label={`Group ${asked + 1} of the key sheet`}
            error={sending.errorOf("group")}
            mono
            autoComplete="off"
            value={typed}
            onChange={(event) => setTyped(event.target.value)}
          />
          {sending.problem && sending.problem.errors.length === 0 && <Refusal problem={sending.problem} />}
          <div>
            <button type="submit" className="btn btn-primary" disabled={sending.busy || !typed.trim()}>
              Confirm the key
            </button>
          </div>
        </form>
      )}
    </div>
  );
}
