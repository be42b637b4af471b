"use client";

import { useRouter } from "next/navigation";
import { useState } from "react";
import { callApi } from "./api";
import { Refusal, TextField, useSending } from "./form";

/** Asks for a client's passphrase; the key is open to this session then. */
export function PassphraseForm({
  clientId,
  label,
  opened,
}: {
  clientId: string;
  label: string;
  opened?: () => void;
}) {
  const router = useRouter();
  const sending = useSending();
  const [passphrase, setPassphrase] = useState("");
  return (
    <form
      className="grid max-w-[420px] gap-2"
      onSubmit={(event) => {
        event.preventDefault();
        void sending.send(async () => {
          await callApi("POST", `/clients/${clientId}/key/unlock`, { passphrase });
          setPassphrase("");
          opened?.();
          router.refresh();
        });
      }}
    >
      <TextField
        label="The client’s passphrase"
        type="password"
        autoComplete="off"
        error={sending.errorOf("passphrase")}
        value={passphrase}
        onChange={(event) => setPassphrase(event.target.value)}
      />
      {sending.problem && sending.problem.errors.length === 0 && <Refusal problem={sending.problem} />}
      <div>
        <button type="submit" className="btn btn-primary" disabled={sending.busy || !passphrase}>
          {label}
        </button>
      </div>
    </form>
  );
}
