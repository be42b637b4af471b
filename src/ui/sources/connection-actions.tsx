"use client";

import { useRouter } from "next/navigation";
import { useState } from "react";
import { showRefusal } from "../parts/actions";
import { callApi } from "../parts/api";
import { Refusal, TextField, useSending } from "../parts/form";
import { say } from "../parts/say";
import { type StepsShown, TestSteps } from "../parts/test-steps";

/** What can be done with a connection over the network: test it, give it a new secret, or authorise it again. */
export function ConnectionActions({
  connectionId,
  open,
  granted,
}: {
  connectionId: string;
  open: boolean;
  /** A person authorised it at the server's page; it has no secret to enter. */
  granted: boolean;
}) {
  const router = useRouter();
  const sending = useSending();
  const [test, setTest] = useState<StepsShown | null>(null);
  const [testing, setTesting] = useState(false);
  const [renewing, setRenewing] = useState(open && !granted);
  const [secret, setSecret] = useState("");
  return (
    <div className="grid gap-3">
      <div className="flex gap-2">
        <button
          type="button"
          className="btn btn-plain"
          disabled={testing}
          onClick={async () => {
            setTesting(true);
            try {
              setTest(await callApi<StepsShown>("POST", `/connections/${connectionId}/discoveries`));
              router.refresh();
            } catch (error) {
              showRefusal(error);
            } finally {
              setTesting(false);
            }
          }}
        >
          Test
        </button>
        {granted && (
          <button
            type="button"
            className={`btn ${open ? "btn-primary" : "btn-plain"}`}
            disabled={sending.busy}
            onClick={() =>
              sending.send(async () => {
                const { url } = await callApi<{ url: string }>(
                  "POST",
                  `/connections/${connectionId}/authorisations`,
                );
                window.location.assign(url);
              })
            }
          >
            {sending.busy ? "Opening the server’s page…" : "Authorise again…"}
          </button>
        )}
        {!renewing && !granted && (
          <button type="button" className="btn btn-plain" onClick={() => setRenewing(true)}>
            Enter a new secret…
          </button>
        )}
      </div>
      {granted && <Refusal problem={sending.problem} />}
      {test && (
        <div role="status">
          <TestSteps test={test} />
        </div>
      )}
      {renewing && (
        <form
          className="grid gap-3"
          onSubmit={(event) => {
            event.preventDefault();
            void sending.send(async () => {
              await callApi("PUT", `/connections/${connectionId}/secret`, { clientSecret: secret });
              say.success("The new secret works and replaces the old one.", {
                description: "The next run uses it. To start now, choose Back up now.",
              });
              setSecret("");
              setRenewing(false);
              router.refresh();
            });
          }}
        >
          <TextField
            label="New secret or password"
            type="password"
            autoComplete="off"
            help="The new secret is tested first. The old one stays in use until the test succeeds."
            error={sending.errorOf("clientSecret")}
            value={secret}
            onChange={(event) => setSecret(event.target.value)}
          />
          <Refusal problem={sending.problem} />
          <div className="flex gap-2">
            <button type="submit" className="btn btn-primary" disabled={sending.busy}>
              {sending.busy ? "Testing…" : "Test and save"}
            </button>
            <button type="button" className="btn btn-plain" onClick={() => setRenewing(false)}>
              Cancel
            </button>
          </div>
        </form>
      )}
    </div>
  );
}
