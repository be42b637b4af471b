"use client";

import { useRouter } from "next/navigation";
import { useState } from "react";
import type { KeyState } from "@/core/keysheet/wrapping";
import { callApi } from "../parts/api";
import { Refusal, TextField, useSending } from "../parts/form";
import { Clock } from "../parts/moment";
import { PassphraseForm } from "../parts/passphrase-form";
import { say } from "../parts/say";
import { ConsentLine } from "./consents";
import type { ShownConsent } from "./shown-consent";

interface HeldKey {
  readonly id: string;
  readonly name: string;
  readonly key: KeyState;
  readonly machinesWithout: readonly string[];
  readonly consent: ShownConsent | null;
  readonly certificate: Readonly<Record<string, unknown>> | null;
}

/** How a confirmed key is held, and what can be changed about it. */
export function KeyHolding({ client, zone }: { client: HeldKey; zone: string }) {
  const [change, setChange] = useState<"holding" | "destroy" | null>(null);
  const open = (what: typeof change) => () => setChange(change === what ? null : what);
  if (client.key === "destroyed")
    return <Certificate body={client.certificate} clientId={client.id} zone={zone} />;
  const own = client.key === "passphrase";
  return (
    <div className="grid gap-3">
      <p>
        {own
          ? "The key opens only with the client’s passphrase. Machines have their own sealed copy and run without it. Browsing or restoring in the console requires the passphrase."
          : "The key was shown once and its sheet is confirmed. The provider holds it in escrow, sealed with its master key. It cannot be replaced: data may be sealed with it."}
      </p>
      {client.machinesWithout.length > 0 && (
        <div className="warned">
          <p className="mb-2">
            {client.machinesWithout.join(", ")} came later and{" "}
            {client.machinesWithout.length === 1 ? "has" : "have"} no key yet: nothing of{" "}
            {client.machinesWithout.length === 1 ? "it" : "them"} is backed up until somebody enters the
            passphrase once.
          </p>
          <PassphraseForm clientId={client.id} label="Send the key to these machines" />
        </div>
      )}
      {client.consent ? (
        <ConsentLine consent={client.consent} zone={zone} />
      ) : (
        <div className="flex flex-wrap gap-2">
          <button
            type="button"
            className="btn btn-plain"
            aria-expanded={change === "holding"}
            onClick={open("holding")}
          >
            {own ? "Change the passphrase…" : "Move out of escrow…"}
          </button>
          <button
            type="button"
            className="btn btn-plain"
            aria-expanded={change === "destroy"}
            onClick={open("destroy")}
          >
            Destroy the key…
          </button>
        </div>
      )}
      {change === "holding" && <HoldingForm client={client} own={own} done={() => setChange(null)} />}
      {change === "destroy" && <DestroyForm client={client} done={() => setChange(null)} />}
    </div>
  );
}

function HoldingForm({ client, own, done }: { client: HeldKey; own: boolean; done: () => void }) {
  const router = useRouter();
  const sending = useSending();
  const [passphrase, setPassphrase] = useState("");
  const [wanted, setWanted] = useState("");
  const [again, setAgain] = useState("");
  const send = (newPassphrase: string | null) =>
    sending.send(async () => {
      await callApi("PUT", `/clients/${client.id}/key/holding`, {
        passphrase: own ? passphrase : null,
        newPassphrase,
      });
      say.success(newPassphrase ? "Passphrase changed." : "The key was moved into escrow.");
      done();
      router.refresh();
    });
  return (
    <form
      className="grid max-w-[420px] gap-3"
      onSubmit={(event) => {
        event.preventDefault();
        void send(wanted);
      }}
    >
      {own && (
        <TextField
          label="Current passphrase"
          type="password"
          autoComplete="off"
          error={sending.errorOf("passphrase")}
          value={passphrase}
          onChange={(event) => setPassphrase(event.target.value)}
        />
      )}
      <TextField
        label={own ? "New passphrase" : "Passphrase"}
        type="password"
        autoComplete="new-password"
        error={sending.errorOf("newPassphrase")}
        help="The passphrase is not stored. The key stays the same: no data moves, and the printed sheet stays valid."
        value={wanted}
        onChange={(event) => setWanted(event.target.value)}
      />
      <TextField
        label="Repeat passphrase"
        type="password"
        autoComplete="new-password"
        error={again && again !== wanted ? "It differs from the first one." : undefined}
        value={again}
        onChange={(event) => setAgain(event.target.value)}
      />
      {sending.problem && sending.problem.errors.length === 0 && <Refusal problem={sending.problem} />}
      <div className="flex gap-2">
        <button
          type="submit"
          className="btn btn-primary"
          disabled={sending.busy || !wanted || wanted !== again}
        >
          {own ? "Change passphrase" : "Move out of escrow"}
        </button>
        {own && (
          <button
            type="button"
            className="btn btn-plain"
            disabled={sending.busy || !passphrase}
            onClick={() => send(null)}
          >
            Move into escrow
          </button>
        )}
      </div>
    </form>
  );
}

function DestroyForm({ client, done }: { client: HeldKey; done: () => void }) {
  const router = useRouter();
  const sending = useSending();
  const [reason, setReason] = useState("");
  return (
    <form
      className="grid max-w-[420px] gap-3"
      onSubmit={(event) => {
        event.preventDefault();
        void sending.send(async () => {
          await callApi("POST", `/clients/${client.id}/key/destruction`, { reason });
          say.success("Requested. A second person must approve within seven days.");
          done();
          router.refresh();
        });
      }}
    >
      <p className="warned">
        Without the key nothing that was kept for {client.name} can be read any more, except with the key
        sheet. Nothing happens until a second person approves.
      </p>
      <TextField
        label="Reason"
        error={sending.errorOf("reason")}
        value={reason}
        onChange={(event) => setReason(event.target.value)}
      />
      {sending.problem && sending.problem.errors.length === 0 && <Refusal problem={sending.problem} />}
      <div>
        <button type="submit" className="btn btn-primary" disabled={sending.busy || !reason.trim()}>
          Send request
        </button>
      </div>
    </form>
  );
}

/** What stays when a key is gone. */
function Certificate({
  body,
  clientId,
  zone,
}: {
  body: Readonly<Record<string, unknown>> | null;
  clientId: string;
  zone: string;
}) {
  if (!body) return <p>The client’s key was destroyed.</p>;
  const text = (name: string) => String(body[name] ?? "");
  return (
    <div className="grid gap-2">
      <p className="font-semibold">The client’s key was destroyed.</p>
      <dl className="facts">
        <dt>When</dt>
        <dd>
          <Clock moment={new Date(text("destroyedAt"))} zone={zone} />
        </dd>
        <dt>Requested by</dt>
        <dd>
          {text("askedBy")}: {text("reason")}
        </dd>
        <dt>Agreed by</dt>
        <dd>{text("agreedBy")}</dd>
        <dt>Unreadable</dt>
        <dd>
          {text("points")} recovery points of {text("sources")} sources
        </dd>
        <dt>Key</dt>
        <dd className="font-mono text-[12.5px]">{text("fingerprint")}</dd>
      </dl>
      <p className="text-soft">A printed sheet still opens the data in the depots. Have it destroyed too.</p>
      <div>
        <a className="btn btn-plain" href={`/api/v1/clients/${clientId}/key/certificate`} download>
          Save the certificate
        </a>
      </div>
    </div>
  );
}
