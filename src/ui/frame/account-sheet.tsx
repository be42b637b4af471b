"use client";

import { useRouter } from "next/navigation";
import { useState } from "react";
import { isClientRole, ROLE_NAMES, type Role } from "@/core/rights/rights";
import { formatRelative } from "@/core/units/duration";
import { ActionButton } from "../parts/actions";
import { callApi } from "../parts/api";
import { Refusal, SelectField, TextField, useSending } from "../parts/form";
import { clockText, dayText } from "../parts/moment";
import { say } from "../parts/say";

interface ShownSession {
  readonly id: string;
  readonly createdAt: Date;
  readonly seenAt: Date;
  readonly address: string;
  readonly agent: string;
  readonly current: boolean;
}
interface ShownToken {
  readonly id: string;
  readonly name: string;
  readonly reach: "read" | "change";
  readonly expiresAt: Date;
  readonly usedAt: Date | null;
}
interface AccountProps {
  readonly person: {
    readonly name: string;
    readonly email: string;
    readonly role: Role;
    readonly factor: boolean;
    readonly factorMissing: boolean;
  };
  readonly now: Date;
  readonly zone: string;
  readonly codesLeft: number;
  readonly sessions: readonly ShownSession[];
  readonly tokens: readonly ShownToken[];
}

/** A person's own sign-in: second factor, password, sessions, tokens. */
export function AccountSheet({ person, now, zone, codesLeft, sessions, tokens }: AccountProps) {
  return (
    <main className="h-full overflow-y-auto" tabIndex={0}>
      <div className="head-line">
        <h1 className="text-[15px] font-bold">Your account</h1>
        <span className="text-soft">
          {person.name}, {person.email}, {ROLE_NAMES[person.role]}
        </span>
      </div>
      <div className="grid max-w-[1080px] gap-8 p-4 min-[900px]:grid-cols-2">
        <div className="grid grid-cols-1 content-start gap-8">
          <SecondFactor person={person} codesLeft={codesLeft} />
          <Password />
        </div>
        <div className="grid grid-cols-1 content-start gap-8">
          <section className="grid grid-cols-1 gap-2">
            <h2 className="text-[15px]">Active sessions</h2>
            <ul>
              {sessions.map((session) => (
                <li key={session.id} className="border-line flex items-center gap-3 border-b py-2">
                  <span className="min-w-0 flex-1">
                    <span className="block truncate" title={session.agent}>
                      {session.current ? <b>This browser</b> : session.agent || "unknown program"}
                    </span>
                    <span className="text-soft">
                      from {session.address}, since {clockText(session.createdAt, zone)}, last seen{" "}
                      {formatRelative(session.seenAt, now)}
                    </span>
                  </span>
                  {!session.current && (
                    <ActionButton
                      action={() => callApi("DELETE", `/account/sessions/${session.id}`)}
                      done="Session ended."
                    >
                      End session
                    </ActionButton>
                  )}
                </li>
              ))}
            </ul>
          </section>
          {!isClientRole(person.role) && !person.factorMissing && (
            <Tokens tokens={tokens} now={now} zone={zone} mayChange={person.role !== "reader"} />
          )}
        </div>
      </div>
    </main>
  );
}

function RecoveryCodes({ codes, done }: { codes: readonly string[]; done: () => void }) {
  return (
    <div className="said grid gap-3">
      <p>
        Your recovery codes, shown once. Each works for one sign-in if you lose your authenticator. Print them
        or write them down, and store them apart from your phone.
      </p>
      <ol className="grid grid-cols-2 gap-1 font-mono" aria-label="Recovery codes">
        {codes.map((code) => (
          <li key={code}>{code}</li>
        ))}
      </ol>
      <button type="button" className="btn btn-primary justify-self-start" onClick={done}>
        I have saved them
      </button>
    </div>
  );
}

function SecondFactor({ person, codesLeft }: { person: AccountProps["person"]; codesLeft: number }) {
  const router = useRouter();
  const sending = useSending();
  const [password, setPassword] = useState("");
  const [begun, setBegun] = useState<{ seed: string; qr: string } | null>(null);
  const [code, setCode] = useState("");
  const [codes, setCodes] = useState<readonly string[] | null>(null);
  const ask = (work: () => Promise<void>) =>
    sending.send(async () => {
      await work();
      setPassword("");
      setCode("");
    });
  return (
    <section className="grid gap-3" aria-label="Second factor">
      <h2 className="text-[15px]">Second factor</h2>
      {person.factorMissing && !codes && (
        <p className="warned">
          Your role must have a second factor. Set it up here to open the rest of the console.
        </p>
      )}
      {codes ? (
        <RecoveryCodes
          codes={codes}
          done={() => {
            setCodes(null);
            setBegun(null);
            router.refresh();
          }}
        />
      ) : begun ? (
        <form
          className="grid gap-3"
          onSubmit={(event) => {
            event.preventDefault();
            void ask(async () => {
              const answer = await callApi<{ recoveryCodes: string[] }>("POST", "/account/factor/confirm", {
                code,
              });
              setCodes(answer.recoveryCodes);
            });
          }}
        >
          <p>Scan this code with the authenticator app on your phone, or enter the key by hand.</p>
          <div className="flex flex-wrap items-center gap-4">
            {/* biome-ignore lint/performance/noImgElement: a picture that is in the answer already */}
            <img src={begun.qr} alt="The seed of your second factor" width={180} height={180} />
            <p className="font-mono break-all" data-seed={begun.seed}>
              {begun.seed.match(/.{1,4}/g)?.join(" ")}
            </p>
          </div>
          <TextField
            label="Six-digit code"
            error={sending.errorOf("code")}
            autoComplete="one-time-code"
            inputMode="numeric"
            value={code}
            onChange={(event) => setCode(event.target.value)}
          />
          <button type="submit" className="btn btn-primary justify-self-start" disabled={sending.busy}>
            Turn on second factor
          </button>
        </form>
      ) : (
        <form
          className="grid gap-3"
          onSubmit={(event) => {
            event.preventDefault();
            void ask(async () => {
              if (person.factor) {
                const answer = await callApi<{ recoveryCodes: string[] }>(
                  "POST",
                  "/account/factor/recovery-codes",
                  { password, code },
                );
                setCodes(answer.recoveryCodes);
              } else setBegun(await callApi("POST", "/account/factor", { password }));
            });
          }}
        >
          <p className="text-soft">
            {person.factor
              ? `On: signing in requires a code and your password. ${codesLeft} of 10 recovery codes are left.`
              : "Off. A second factor protects your account if your password is stolen: signing in also requires a six-digit code from your phone."}
          </p>
          <TextField
            label="Current password"
            error={sending.errorOf("password")}
            type="password"
            autoComplete="current-password"
            value={password}
            onChange={(event) => setPassword(event.target.value)}
          />
          {person.factor && (
            <TextField
              label="Current code"
              help="The six-digit code of your authenticator, or a recovery code."
              error={sending.errorOf("code")}
              autoComplete="one-time-code"
              value={code}
              onChange={(event) => setCode(event.target.value)}
            />
          )}
          <div className="flex gap-2">
            <button
              type="submit"
              className={`btn ${person.factor ? "btn-plain" : "btn-primary"}`}
              disabled={sending.busy}
            >
              {person.factor ? "Create new recovery codes" : "Set up second factor"}
            </button>
            {person.factor && (
              <button
                type="button"
                className="btn btn-plain"
                disabled={sending.busy}
                onClick={() =>
                  ask(async () => {
                    await callApi("DELETE", "/account/factor", { password, code });
                    say.success("Your second factor is off.");
                    router.refresh();
                  })
                }
              >
                Turn off second factor
              </button>
            )}
          </div>
        </form>
      )}
      {sending.problem && sending.problem.errors.length === 0 && <Refusal problem={sending.problem} />}
    </section>
  );
}

function Password() {
  const sending = useSending();
  const [password, setPassword] = useState("");
  const [newPassword, setNewPassword] = useState("");
  const [revoke, setRevoke] = useState(false);
  return (
    <form
      className="grid gap-3"
      aria-label="Password"
      onSubmit={(event) => {
        event.preventDefault();
        void sending.send(async () => {
          await callApi("PUT", "/account/password", { password, newPassword, endTokens: revoke });
          say.success(
            revoke
              ? "Password changed. Your other sessions and all your API tokens have ended."
              : "Password changed. Your other sessions have ended.",
          );
          setPassword("");
          setNewPassword("");
        });
      }}
    >
      <h2 className="text-[15px]">Password</h2>
      <TextField
        label="Current password"
        error={sending.errorOf("password")}
        type="password"
        autoComplete="current-password"
        value={password}
        onChange={(event) => setPassword(event.target.value)}
      />
      <TextField
        label="New password"
        help="At least 12 characters. A few words in a row are easy to remember and hard to guess."
        error={sending.errorOf("newPassword")}
        type="password"
        autoComplete="new-password"
        value={newPassword}
        onChange={(event) => setNewPassword(event.target.value)}
      />
      <label className="flex items-center gap-2">
        <input
          type="checkbox"
          className="checkbox checkbox-sm"
          checked={revoke}
          onChange={(event) => setRevoke(event.target.checked)}
        />
        End my API tokens too
      </label>
      {sending.problem && sending.problem.errors.length === 0 && <Refusal problem={sending.problem} />}
      <button type="submit" className="btn btn-plain justify-self-start" disabled={sending.busy}>
        Change password
      </button>
    </form>
  );
}

function Tokens({
  tokens,
  now,
  zone,
  mayChange,
}: {
  tokens: readonly ShownToken[];
  now: Date;
  zone: string;
  mayChange: boolean;
}) {
  const router = useRouter();
  const sending = useSending();
  const [name, setName] = useState("");
  const [reach, setReach] = useState("read");
  const [days, setDays] = useState("90");
  const [made, setMade] = useState<string | null>(null);
  return (
    <section className="grid grid-cols-1 gap-2" aria-label="API tokens">
      <h2 className="text-[15px]">API tokens</h2>
      {tokens.length === 0 && (
        <p className="text-soft">No tokens. A token lets a program act as you until it expires.</p>
      )}
      <ul>
        {tokens.map((token) => (
          <li key={token.id} className="border-line flex items-center gap-3 border-b py-2">
            <span className="min-w-0 flex-1">
              <b>{token.name}</b>{" "}
              <span className="text-soft">
                {token.reach === "read" ? "reads" : "reads and changes"}, until{" "}
                {dayText(token.expiresAt, zone)},{" "}
                {token.usedAt ? `used ${formatRelative(token.usedAt, now)}` : "not used yet"}
              </span>
            </span>
            <ActionButton
              action={() => callApi("DELETE", `/account/tokens/${token.id}`)}
              done="Token revoked."
            >
              Revoke
            </ActionButton>
          </li>
        ))}
      </ul>
      {made && (
        <p className="said">
          Shown once: <code className="font-mono break-all">{made}</code>
        </p>
      )}
      <form
        className="grid grid-cols-[minmax(0,1fr)_130px_90px] items-end gap-2"
        onSubmit={(event) => {
          event.preventDefault();
          void sending.send(async () => {
            const answer = await callApi<{ token: string }>("POST", "/account/tokens", {
              name,
              reach,
              days: Number(days),
            });
            setMade(answer.token);
            setName("");
            router.refresh();
          });
        }}
      >
        <TextField
          label="Purpose"
          error={sending.errorOf("name")}
          value={name}
          onChange={(event) => setName(event.target.value)}
        />
        <SelectField label="Access" value={reach} onChange={(event) => setReach(event.target.value)}>
          <option value="read">read</option>
          {mayChange && <option value="change">read, change</option>}
        </SelectField>
        <TextField
          label="Valid for (days)"
          error={sending.errorOf("days")}
          inputMode="numeric"
          value={days}
          onChange={(event) => setDays(event.target.value)}
        />
        <button type="submit" className="btn btn-plain justify-self-start" disabled={sending.busy}>
          Create token
        </button>
      </form>
    </section>
  );
}
