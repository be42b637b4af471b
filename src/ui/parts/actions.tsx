"use client";

import Link from "next/link";
import { useRouter } from "next/navigation";
import { type ReactNode, useState } from "react";
import { ApiError, callApi } from "./api";
import { say } from "./say";

/** Tells a refusal in a toast; the words are the API's. */
export function showRefusal(error: unknown): void {
  if (!(error instanceof ApiError)) throw error;
  say.error(error.problem.title, { description: `${error.problem.detail} ${error.problem.remedy ?? ""}` });
}

/** A button that does one thing through the API and reads the view anew. */
export function ActionButton({
  action,
  done,
  children,
  primary = false,
  keyName,
}: {
  action: () => Promise<unknown>;
  done?: string;
  children: ReactNode;
  primary?: boolean;
  keyName?: string;
}) {
  const router = useRouter();
  const [busy, setBusy] = useState(false);
  return (
    <button
      type="button"
      className={`btn ${primary ? "btn-primary" : "btn-plain"}`}
      disabled={busy}
      {...(keyName ? { "data-key": keyName } : {})}
      onClick={async () => {
        setBusy(true);
        try {
          await action();
          if (done) say.success(done);
          router.refresh();
        } catch (error) {
          showRefusal(error);
        } finally {
          setBusy(false);
        }
      }}
    >
      {children}
    </button>
  );
}

/** Back up now: says at once what will happen. */
export function BackUpButton({
  sourceId,
  label = "Back up now",
  primary = true,
}: {
  sourceId: string;
  label?: string;
  primary?: boolean;
}) {
  return (
    <ActionButton
      primary={primary}
      keyName="b"
      action={async () => {
        const { waits } = await callApi<{ waits: string | null }>("POST", `/sources/${sourceId}/runs`);
        say.success("Run requested", { description: waits ?? "It starts shortly." });
      }}
    >
      {label}
    </ActionButton>
  );
}

/** Asks for a drill of a source. */
export function DrillButton({ sourceId }: { sourceId: string }) {
  return (
    <ActionButton
      action={() => callApi("POST", `/sources/${sourceId}/drills`)}
      done="Drill requested. See Runs."
    >
      Run drill now
    </ActionButton>
  );
}

/** Asks for a run of each source. */
export function BackUpEach({ sourceIds, label }: { sourceIds: readonly string[]; label: string }) {
  return (
    <ActionButton
      action={async () => {
        for (const id of sourceIds) await callApi("POST", `/sources/${id}/runs`);
      }}
      done={`${sourceIds.length} ${sourceIds.length === 1 ? "run" : "runs"} requested.`}
    >
      {label}
    </ActionButton>
  );
}

export function StopButton({ runId }: { runId: string }) {
  return (
    <ActionButton
      action={() => callApi("POST", `/runs/${runId}/stop`)}
      done="The run is stopping. The next run uses what was stored."
    >
      Stop
    </ActionButton>
  );
}

export function PauseButton({ sourceId, paused }: { sourceId: string; paused: boolean }) {
  const set = (to: boolean) => callApi("PATCH", `/sources/${sourceId}`, { paused: to });
  return (
    <ActionButton
      action={async () => {
        await set(!paused);
        say.success(paused ? "Resumed. Runs follow the policy again." : "Paused. No scheduled runs.", {
          action: { label: "Undo", onClick: () => void set(paused).catch(showRefusal) },
        });
      }}
    >
      {paused ? "Resume" : "Pause"}
    </ActionButton>
  );
}

/** Assigns a policy to a source, or takes it away. */
export function PolicyChoice({
  sourceId,
  policyId,
  policies,
  base,
}: {
  sourceId: string;
  policyId: string | null;
  policies: readonly { id: string; name: string }[];
  base: string;
}) {
  const router = useRouter();
  if (policies.length === 0) {
    return (
      <p>
        This client has no policy yet.{" "}
        <Link className="text-primary underline" href={`${base}/policies?sel=new`}>
          Create policy
        </Link>
      </p>
    );
  }
  return (
    <select
      className="select w-full"
      aria-label="Policy of this source"
      value={policyId ?? ""}
      onChange={async (event) => {
        try {
          await callApi("PATCH", `/sources/${sourceId}`, { policyId: event.target.value || null });
          say.success(event.target.value ? "Policy assigned." : "Policy removed.");
          router.refresh();
        } catch (error) {
          showRefusal(error);
        }
      }}
    >
      <option value="">No policy</option>
      {policies.map((policy) => (
        <option key={policy.id} value={policy.id}>
          {policy.name}
        </option>
      ))}
    </select>
  );
}

/** Takes a connection away; typed, because its sources are not read from then on. */
export function RemoveConnection({
  connectionId,
  name,
  kind,
}: {
  connectionId: string;
  name: string;
  kind: string;
}) {
  const router = useRouter();
  const [open, setOpen] = useState(false);
  const [typed, setTyped] = useState("");
  if (!open) {
    return (
      <button type="button" className="btn btn-plain" onClick={() => setOpen(true)}>
        Remove {kind}…
      </button>
    );
  }
  return (
    <form
      className="warned grid w-full gap-2"
      onSubmit={async (event) => {
        event.preventDefault();
        try {
          await callApi("DELETE", `/connections/${connectionId}`);
          say.success(`${name} was removed. Its recovery points remain.`);
          router.refresh();
        } catch (error) {
          showRefusal(error);
        }
      }}
    >
      <label htmlFor="remove-connection">
        {kind === "machine" ? "Its agent can no longer connect" : "Its mailboxes are no longer read"}. Their
        recovery points remain. Type <b>{name}</b> to confirm.
      </label>
      <input
        id="remove-connection"
        className="input w-full"
        value={typed}
        onChange={(event) => setTyped(event.target.value)}
      />
      <div className="flex gap-2">
        <button type="submit" className="btn btn-error" disabled={typed !== name}>
          Remove
        </button>
        <button type="button" className="btn btn-plain" onClick={() => setOpen(false)}>
          Cancel
        </button>
      </div>
    </form>
  );
}

/** Says that an alarm was none, or is dealt with: what it held may be dropped again. */
export function LiftAlarm({ sourceId, holdId }: { sourceId: string; holdId: string }) {
  return (
    <ActionButton
      action={() => callApi("DELETE", `/sources/${sourceId}/holds/${holdId}`)}
      done="Alarm dismissed. The points keep their lock."
    >
      Dismiss alarm (expected change, or resolved)
    </ActionButton>
  );
}
