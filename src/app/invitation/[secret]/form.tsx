"use client";

import { useState } from "react";
import { callApi } from "@/ui/api";
import { Refusal, TextField, useSending } from "@/ui/form";

export function InvitationForm({
  secret,
  name,
  email,
  madeBy,
}: {
  secret: string;
  name: string;
  email: string;
  madeBy: string;
}) {
  const [password, setPassword] = useState("");
  const sending = useSending();
  return (
    <form
      className="grid gap-4"
      onSubmit={(event) => {
        event.preventDefault();
        void sending.send(async () => {
          await callApi("POST", `/invitations/${secret}`, { password });
          window.location.assign("/");
        });
      }}
    >
      <p>
        Welcome, {name}. {madeBy} made this sign-in for you; from now on you sign in as <b>{email}</b>.
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
      {sending.problem && sending.problem.errors.length === 0 && <Refusal problem={sending.problem} />}
      <button type="submit" className="btn btn-primary" disabled={sending.busy}>
        Keep it and sign in
      </button>
    </form>
  );
}
