"use client";

import { useEffect, useState } from "react";
import { callApi } from "@/ui/parts/api";
import { Refusal, SelectField, TextField, useSending } from "@/ui/parts/form";
import { Sign } from "@/ui/parts/mark";

const FIELDS = [
  ["provider", "Name of the provider", "text", "organization"],
  ["name", "Your name", "text", "name"],
  ["email", "Your e-mail address", "email", "email"],
  ["password", "A password", "password", "new-password"],
] as const;

/** The first page of an empty console: makes the provider and its owner. */
export function SetupForm({ zones }: { zones: readonly string[] }) {
  const [values, setValues] = useState({ provider: "", name: "", email: "", password: "", zone: "UTC" });
  const [requireFactor, setDemandFactor] = useState(true);
  const sending = useSending();
  useEffect(
    () => setValues((before) => ({ ...before, zone: Intl.DateTimeFormat().resolvedOptions().timeZone })),
    [],
  );
  const set = (field: string, value: string) => setValues({ ...values, [field]: value });
  return (
    <main className="grid min-h-dvh place-items-center p-6">
      <form
        className="bg-base-100 border-base-300 w-[440px] max-w-full border p-7"
        onSubmit={(event) => {
          event.preventDefault();
          void sending.send(async () => {
            await callApi("POST", "/setup", { ...values, requireFactor });
            window.location.assign("/all/sources?sheet=client");
          });
        }}
      >
        <h1 className="mb-1 flex items-center gap-2 text-xl">
          <Sign /> Deep Keep
        </h1>
        <p className="text-soft mb-5">Create the owner account of this console. Then add the first client.</p>
        <div className="grid gap-4">
          {FIELDS.map(([field, label, type, complete]) => (
            <TextField
              key={field}
              label={label}
              error={sending.errorOf(field)}
              type={type}
              autoComplete={complete}
              value={values[field]}
              onChange={(event) => set(field, event.target.value)}
            />
          ))}
          <SelectField
            label="Your time zone"
            error={sending.errorOf("zone")}
            value={values.zone}
            onChange={(event) => set("zone", event.target.value)}
          >
            {[...new Set([values.zone, "UTC", ...zones])].map((zone) => (
              <option key={zone}>{zone}</option>
            ))}
          </SelectField>
          <label className="flex items-start gap-2">
            <input
              type="checkbox"
              className="checkbox checkbox-xs mt-[3px]"
              checked={requireFactor}
              onChange={(event) => setDemandFactor(event.target.checked)}
            />
            <span>
              All of your people need a second factor
              <span className="text-soft block text-[13px]">
                In addition to the password, a code from an app on their phone. You set up yours next.
              </span>
            </span>
          </label>
          <Refusal problem={sending.problem} />
          <button type="submit" className="btn btn-primary" disabled={sending.busy}>
            Create owner
          </button>
        </div>
      </form>
    </main>
  );
}
