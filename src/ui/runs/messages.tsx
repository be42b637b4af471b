"use client";

import { useRouter } from "next/navigation";
import { useState } from "react";
import { ActionButton } from "../parts/actions";
import { callApi } from "../parts/api";
import { Refusal, SelectField, TextField, useSending } from "../parts/form";
import { say } from "../parts/say";

export interface ShownMessage {
  readonly id: string;
  readonly to: string;
  readonly subject: string;
  readonly body: string;
  readonly client: string;
  readonly made: string;
  readonly state: "sent" | "waits" | "failed";
  readonly error: string | null;
  readonly attempts: number;
}
interface MailServerDraft {
  readonly host: string;
  readonly port: string;
  readonly security: string;
  readonly username: string;
  readonly password: string;
  readonly sender: string;
}

/** How messages leave: the mail server and webhooks, each with a test. */
export function MessageWays({
  mailServer,
  webhooks,
}: {
  mailServer: {
    readonly host: string;
    readonly port: number;
    readonly security: string;
    readonly username: string | null;
    readonly sender: string;
    readonly hasPassword: boolean;
  } | null;
  webhooks: readonly { readonly id: string; readonly name: string; readonly url: string }[];
}) {
  return (
    <div className="grid gap-6">
      <MailServer mailServer={mailServer} />
      <Webhooks webhooks={webhooks} />
    </div>
  );
}

function MailServer({ mailServer }: Pick<Parameters<typeof MessageWays>[0], "mailServer">) {
  const router = useRouter();
  const sending = useSending();
  const [open, setOpen] = useState(mailServer === null);
  const [to, setTo] = useState("");
  const testing = useSending();
  const [draft, setDraft] = useState<MailServerDraft>({
    host: mailServer?.host ?? "",
    port: String(mailServer?.port ?? 587),
    security: mailServer?.security ?? "starttls",
    username: mailServer?.username ?? "",
    password: "",
    sender: mailServer?.sender ?? "",
  });
  const field = (key: keyof MailServerDraft) => ({
    error: sending.errorOf(key),
    value: draft[key],
    onChange: (event: { target: { value: string } }) => setDraft({ ...draft, [key]: event.target.value }),
  });
  const save = () =>
    sending.send(async () => {
      await callApi("PUT", "/mail-server", {
        host: draft.host,
        port: Number(draft.port),
        security: draft.security,
        username: draft.username.trim() || null,
        ...(draft.password || !mailServer?.hasPassword ? { password: draft.password || null } : {}),
        sender: draft.sender,
      });
      say.success("Mail server saved.");
      setOpen(false);
      router.refresh();
    });
  return (
    <section className="grid gap-2">
      <h2 className="part-title">Mail</h2>
      {mailServer && (
        <p>
          {mailServer.host}, port {mailServer.port}, as {mailServer.sender}{" "}
          <button type="button" className="text-primary underline" onClick={() => setOpen(!open)}>
            {open ? "Cancel" : "Change…"}
          </button>
        </p>
      )}
      {open && (
        <div className="grid gap-3">
          <div className="grid grid-cols-[minmax(0,1fr)_84px] gap-3">
            <TextField label="Mail server" placeholder="mail.lanternfold.example" {...field("host")} />
            <TextField label="Port" inputMode="numeric" {...field("port")} />
          </div>
          <SelectField label="Secured by" {...field("security")}>
            <option value="starttls">STARTTLS</option>
            <option value="tls">TLS</option>
            <option value="none">none (trusted network only)</option>
          </SelectField>
          <TextField label="From" placeholder="deep-keep@lanternfold.example" {...field("sender")} />
          <div className="grid grid-cols-2 gap-3">
            <TextField label="User name (optional)" autoComplete="off" {...field("username")} />
            <TextField
              label={mailServer?.hasPassword ? "Password (empty: unchanged)" : "Password"}
              type="password"
              autoComplete="new-password"
              {...field("password")}
            />
          </div>
          <Refusal problem={sending.problem?.errors.length ? null : sending.problem} />
          <div>
            <button type="button" className="btn btn-primary" disabled={sending.busy} onClick={save}>
              Save
            </button>
          </div>
        </div>
      )}
      {mailServer && (
        <div className="grid gap-2">
          <div className="flex items-end gap-2">
            <div className="flex-1">
              <TextField
                label="Send a test message to"
                value={to}
                error={testing.errorOf("mail")}
                onChange={(event) => setTo(event.target.value)}
              />
            </div>
            <button
              type="button"
              className="btn btn-plain"
              disabled={testing.busy || !to}
              onClick={() =>
                testing.send(async () => {
                  await callApi("POST", "/messages/test", { mail: to });
                  say.success(`The mail server accepted the message for ${to}.`);
                })
              }
            >
              Send
            </button>
          </div>
          <Refusal problem={testing.problem?.errors.length ? null : testing.problem} />
        </div>
      )}
    </section>
  );
}

function Webhooks({ webhooks }: Pick<Parameters<typeof MessageWays>[0], "webhooks">) {
  const router = useRouter();
  const sending = useSending();
  const [draft, setDraft] = useState({ name: "", url: "" });
  const [secret, setSecret] = useState<string | null>(null);
  const add = () =>
    sending.send(async () => {
      const made = await callApi<{ secret: string }>("POST", "/webhooks", draft);
      setSecret(made.secret);
      setDraft({ name: "", url: "" });
      router.refresh();
    });
  return (
    <section className="grid gap-2">
      <h2 className="part-title">Webhooks</h2>
      {webhooks.map((webhook) => (
        <div key={webhook.id} className="border-line grid gap-1 border-b pb-2">
          <span>
            <b>{webhook.name}</b>{" "}
            <span className="text-soft block font-mono text-[12px] break-all">{webhook.url}</span>
          </span>
          <span className="flex gap-2">
            <ActionButton
              action={() => callApi("POST", "/messages/test", { webhookId: webhook.id })}
              done={`${webhook.name} accepted the test.`}
            >
              Send a test
            </ActionButton>
            <ActionButton
              action={() => callApi("DELETE", `/webhooks/${webhook.id}`)}
              done={`${webhook.name} removed.`}
            >
              Remove
            </ActionButton>
          </span>
        </div>
      ))}
      {secret && (
        <div className="warned">
          Signing secret of this webhook (shown once):
          <span className="mt-1 block font-mono text-[12px] break-all">{secret}</span>
        </div>
      )}
      <div className="grid gap-2">
        <TextField
          label="Name of the webhook"
          placeholder="Tickets"
          value={draft.name}
          error={sending.errorOf("name")}
          onChange={(event) => setDraft({ ...draft, name: event.target.value })}
        />
        <TextField
          label="Webhook address"
          placeholder="https://tickets.example/hook"
          help="Messages are posted as JSON and signed as Standard Webhooks has it, so that the receiver knows who sent them."
          value={draft.url}
          error={sending.errorOf("url")}
          onChange={(event) => setDraft({ ...draft, url: event.target.value })}
        />
        <Refusal problem={sending.problem?.errors.length ? null : sending.problem} />
        <div>
          <button
            type="button"
            className="btn btn-plain"
            disabled={sending.busy || !draft.name || !draft.url}
            onClick={add}
          >
            Add webhook
          </button>
        </div>
      </div>
    </section>
  );
}

/** A message as it was sent, or what stands in its way. */
export function MessageSheet({ message }: { message: ShownMessage }) {
  const hook = message.body.startsWith("{");
  return (
    <div className="grid gap-3">
      <div>
        <h2 className="pr-7 text-[17px]">{message.subject}</h2>
        <p className="text-soft">
          to {message.to} · {message.made}
        </p>
      </div>
      {message.state !== "sent" && (
        <div className={message.state === "failed" ? "refused" : "warned"}>
          <p>
            {message.state === "failed"
              ? `Failed after ${message.attempts} attempts.`
              : "Not delivered yet. It will be retried."}
          </p>
          {message.error && <p className="text-[13px] break-words">{message.error}</p>}
        </div>
      )}
      <pre
        className={`whitespace-pre-wrap break-words ${hook ? "font-mono text-[12px]" : "font-sans text-[14px]"}`}
      >
        {hook ? JSON.stringify(JSON.parse(message.body), null, 2) : message.body}
      </pre>
      {message.state === "failed" && (
        <div>
          <ActionButton
            action={() => callApi("POST", `/messages/${message.id}/send`)}
            done="Message queued again."
          >
            Send again
          </ActionButton>
        </div>
      )}
    </div>
  );
}
