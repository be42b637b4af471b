"use client";

import { useRouter } from "next/navigation";
import { useState } from "react";
import { callApi } from "../parts/api";
import { Refusal, TextField, useSending } from "../parts/form";
import { say } from "../parts/say";
import { ContractFields, contractOf, draftOf } from "./contract-form";

const TEXTS = [
  ["name", "Name of the client"],
  ["region", "Region in which its data may lie"],
  ["contactName", "Person to talk to"],
  ["contactEmail", "Their e-mail address"],
] as const;

/** Takes on a client with its sites: one sheet, filled in any order. */
export function ClientSheet({ zones, zone }: { zones: readonly string[]; zone: string }) {
  const router = useRouter();
  const sending = useSending();
  const [values, setValues] = useState({
    name: "",
    region: "",
    contactName: "",
    contactEmail: "",
    zone,
    sites: "",
  });
  const [contract, setContract] = useState(draftOf({}));
  const missing = [
    ...TEXTS.filter(([field]) => !values[field].trim()).map(([, label]) => label.toLowerCase()),
    ...(values.sites.trim() ? [] : ["at least one site"]),
  ];
  return (
    <form
      className="grid gap-4"
      onSubmit={(event) => {
        event.preventDefault();
        void sending.send(async () => {
          const sites = values.sites
            .split("\n")
            .map((line) => line.trim())
            .filter(Boolean);
          const { client } = await callApi<{ client: { slug: string; name: string } }>("POST", "/clients", {
            ...values,
            sites,
            contract: contractOf(contract),
          });
          say.success(`${client.name} was added.`);
          router.push(`/c/${client.slug}/sources?sheet=connect`);
          router.refresh();
        });
      }}
    >
      <h2 className="text-[17px]">Add client</h2>
      {TEXTS.map(([field, label]) => (
        <TextField
          key={field}
          label={label}
          error={sending.errorOf(field)}
          value={values[field]}
          onChange={(event) => setValues({ ...values, [field]: event.target.value })}
        />
      ))}
      <TextField
        label="Time zone"
        error={sending.errorOf("zone")}
        help="Schedules fire by this zone's clock, and the statement counts its days. A ship keeps the zone of its office."
        list="zones"
        value={values.zone}
        onChange={(event) => setValues({ ...values, zone: event.target.value })}
      />
      <datalist id="zones">
        {zones.map((one) => (
          <option key={one} value={one} />
        ))}
      </datalist>
      <TextField
        label="Sites (one per line)"
        error={sending.errorOf("sites")}
        rows={3}
        value={values.sites}
        onChange={(event) => setValues({ ...values, sites: event.target.value })}
      />
      <ContractFields
        draft={contract}
        set={setContract}
        errorOf={(field) => sending.errorOf(`contract.${field}`)}
      />
      <Refusal problem={sending.problem} />
      {missing.length > 0 && <p className="text-soft text-[13px]">Still required: {missing.join(", ")}.</p>}
      <button type="submit" className="btn btn-primary" disabled={sending.busy}>
        Add client
      </button>
    </form>
  );
}
