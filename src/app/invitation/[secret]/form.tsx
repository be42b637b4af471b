"use client";

import { useState } from "react";
import { callApi } from "@/ui/parts/api";
import { Refusal, TextField, useSending } from "@/ui/parts/form";

export function InvitationForm({
  secret,
  name,
  email,
  madeBy,
  factor,
}: {
  secret: string;
  name: string;
  email: string;
  madeBy: string;
  factor: boolean;
}) {
  const [password, setPassword] = useState("");
  const [code, setCode] = useState("");
  const sending = useSending();
  return (
    <form
      className="grid gap-4"
      onSubmit={(event) => {
        event.preventDefault();
        void sending.send(async () => {
          await callApi("POST", `/invitations/${secret}`, { password, ...(factor ? { code } : {}) });
          window.location.assign("/");
        });
      }}
    >
      <p>
        Welcome, {name}. {madeBy} created this account for you. Your sign-in address is <b>{email}</b>.
      </p>
      <input type="hidden" name="username" autoComplete="username" value={email} readOnly />
      <TextField
        label="Choose a password"
        help="At least 12 characters. A few words in a row are easy to remember and hard to guess."
        error={sending.errorOf("password")}
        type="password"
        autoComplete="new-password"
        value={password}
        onChange={(event) => setPassword(event.target.value)}
      />
      {factor && (
        <TextField
          label="Code of your second factor"
          help="The current six digits of your authenticator, or one of your recovery codes. If you have lost both, ask a second person of your provider to turn off the factor."
          error={sending.errorOf("code")}
          autoComplete="one-time-code"
          value={code}
          onChange={(event) => setCode(event.target.value)}
        />
      )}
      {sending.problem && sending.problem.errors.length === 0 && <Refusal problem={sending.problem} />}
      <button type="submit" className="btn btn-primary" disabled={sending.busy}>
        Save and sign in
      </button>
    </form>
  );
}
