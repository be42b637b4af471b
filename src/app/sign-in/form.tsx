"use client";

import { useState } from "react";
import { ownPath } from "@/ui/frame/own-path";
import { ApiError, callApi } from "@/ui/parts/api";
import { Refusal, TextField, useSending } from "@/ui/parts/form";
import { Sign } from "@/ui/parts/mark";

export function SignInForm({ closed }: { closed: boolean }) {
  const [email, setEmail] = useState("");
  const [password, setPassword] = useState("");
  const [code, setCode] = useState("");
  const [wanted, setWanted] = useState(false);
  const sending = useSending();
  return (
    <main className="grid min-h-dvh place-items-center p-6">
      <form
        className="bg-base-100 border-base-300 w-[380px] max-w-full border p-7"
        onSubmit={(event) => {
          event.preventDefault();
          void sending.send(async () => {
            try {
              await callApi("POST", "/sessions", { email, password, ...(wanted ? { code } : {}) });
            } catch (error) {
              if (!(error instanceof ApiError) || error.problem.code !== "auth.factor-needed" || wanted)
                throw error;
              setWanted(true);
              return;
            }
            const to = new URLSearchParams(window.location.search).get("to");
            window.location.assign(ownPath(to, window.location.origin));
          });
        }}
      >
        <h1 className="mb-5 flex items-center gap-2 text-xl">
          <Sign /> Deep Keep
        </h1>
        <div className="grid gap-4">
          <TextField
            label="E-mail address"
            error={sending.errorOf("email")}
            type="email"
            autoComplete="username"
            value={email}
            onChange={(event) => setEmail(event.target.value)}
          />
          <TextField
            label="Password"
            error={sending.errorOf("password")}
            type="password"
            autoComplete="current-password"
            value={password}
            onChange={(event) => setPassword(event.target.value)}
          />
          {wanted && (
            <TextField
              label="Code of your second factor"
              help="The current six-digit code of your authenticator. If you have lost it, a recovery code."
              error={sending.errorOf("code")}
              inputMode="text"
              autoComplete="one-time-code"
              autoFocus
              value={code}
              onChange={(event) => setCode(event.target.value)}
            />
          )}
          {closed && !sending.problem && (
            <p className="warned">
              You were signed out, because nothing had happened for a while. Sign in again to go on.
            </p>
          )}
          {sending.problem && sending.problem.errors.length === 0 && <Refusal problem={sending.problem} />}
          <button type="submit" className="btn btn-primary" disabled={sending.busy}>
            Sign in
          </button>
        </div>
      </form>
    </main>
  );
}
