"use client";

import { useRouter } from "next/navigation";
import { useState } from "react";
import { formatBytes, parseBytes } from "@/core/units/bytes";
import { callApi } from "./api";
import { tellRefusal } from "./deeds";
import { Refusal, SelectField, TextField, useSending } from "./form";
import { say } from "./say";
import { type StepsShown, TestSteps } from "./test-steps";

interface DepotTest extends StepsShown {
  readonly warnings: readonly string[];
  readonly size: number | null;
  readonly free: number | null;
}

function DepotTestShown({ test }: { test: DepotTest }) {
  return (
    <div className="grid gap-2" role="status">
      <TestSteps test={test} />
      {test.free !== null && (
        <p className="text-soft text-[13px]">
          {formatBytes(test.free)} free of {formatBytes(test.size ?? 0)}
        </p>
      )}
      {test.warnings.map((warning) => (
        <p key={warning} className="warned">
          {warning}
        </p>
      ))}
    </div>
  );
}

/** Adds a depot: tested step by step before it is one. */
export function DepotSheet() {
  const router = useRouter();
  const sending = useSending();
  const [values, setValues] = useState({ name: "", path: "", region: "", capacity: "" });
  const [test, setTest] = useState<DepotTest | null>(null);
  const [capacityError, setCapacityError] = useState<string | undefined>();
  const set = (field: keyof typeof values) => (event: { target: { value: string } }) =>
    setValues({ ...values, [field]: event.target.value });
  const tryIt = () =>
    sending.send(async () => {
      setTest(await callApi<DepotTest>("POST", "/depots/test", { path: values.path }));
    });
  return (
    <form
      className="grid gap-4"
      onSubmit={(event) => {
        event.preventDefault();
        const capacityBytes = values.capacity.trim() ? parseBytes(values.capacity) : null;
        if (values.capacity.trim() && !capacityBytes) {
          setCapacityError("Give a size such as 500 GiB, or leave it empty.");
          return;
        }
        setCapacityError(undefined);
        void sending.send(async () => {
          const { depot } = await callApi<{ depot: { id: string; name: string } }>("POST", "/depots", {
            name: values.name,
            path: values.path,
            region: values.region,
            capacityBytes,
          });
          say.success(`${depot.name} is a depot now.`);
          router.push(`/all/depots?sel=${depot.id}`);
          router.refresh();
        });
      }}
    >
      <h2 className="text-[17px]">Add a depot</h2>
      <TextField label="Name" error={sending.errorOf("name")} value={values.name} onChange={set("name")} />
      <TextField
        label="Folder on the console's machine"
        error={sending.errorOf("path")}
        help="An empty folder on a disk of its own is best. What lies there is sealed: without a client's key nobody can read it, nor see a name."
        mono
        placeholder="/srv/depots/harbour"
        value={values.path}
        onChange={set("path")}
      />
      <TextField
        label="Region where it stands"
        error={sending.errorOf("region")}
        value={values.region}
        onChange={set("region")}
      />
      <TextField
        label="At most (empty: as much as the disk holds)"
        error={capacityError ?? sending.errorOf("capacityBytes")}
        placeholder="500 GiB"
        value={values.capacity}
        onChange={set("capacity")}
      />
      <Refusal problem={sending.problem} />
      {test && <DepotTestShown test={test} />}
      <div className="flex gap-2">
        <button type="submit" className="btn btn-primary" disabled={sending.busy}>
          Make it a depot
        </button>
        <button type="button" className="btn btn-plain" disabled={sending.busy} onClick={tryIt}>
          Test
        </button>
      </div>
    </form>
  );
}

/** Tests a depot that is one. */
export function DepotTestButton({ depotId }: { depotId: string }) {
  const [test, setTest] = useState<DepotTest | null>(null);
  const [busy, setBusy] = useState(false);
  return (
    <div className="grid gap-3">
      <div>
        <button
          type="button"
          className="btn btn-plain"
          disabled={busy}
          onClick={async () => {
            setBusy(true);
            try {
              setTest(await callApi<DepotTest>("POST", `/depots/${depotId}/test`));
            } catch (error) {
              tellRefusal(error);
            } finally {
              setBusy(false);
            }
          }}
        >
          Test
        </button>
      </div>
      {test && <DepotTestShown test={test} />}
    </div>
  );
}

/** Grants a depot to a client, or changes a quota. */
export function GrantForm({
  depotId,
  clients,
}: {
  depotId: string;
  clients: readonly { readonly id: string; readonly name: string; readonly quotaBytes: number | null }[];
}) {
  const router = useRouter();
  const sending = useSending();
  const [clientId, setClientId] = useState(clients[0]?.id ?? "");
  const current = clients.find((client) => client.id === clientId);
  const [quota, setQuota] = useState("");
  const [quotaError, setQuotaError] = useState<string | undefined>();
  if (clients.length === 0)
    return <p className="text-soft">Take on a client first; a depot is granted to it then.</p>;
  return (
    <form
      className="grid gap-3"
      onSubmit={(event) => {
        event.preventDefault();
        const quotaBytes = parseBytes(quota);
        if (!quotaBytes) {
          setQuotaError("Give a size such as 500 GiB.");
          return;
        }
        setQuotaError(undefined);
        void sending.send(async () => {
          const { regionDiffers } = await callApi<{ regionDiffers: boolean }>(
            "PUT",
            `/depots/${depotId}/grants/${clientId}`,
            { quotaBytes },
          );
          say.success(
            `Granted with ${formatBytes(quotaBytes)}.`,
            regionDiffers
              ? { description: "This depot stands in another region than the client's data may lie in." }
              : {},
          );
          setQuota("");
          router.refresh();
        });
      }}
    >
      <div className="grid grid-cols-[minmax(0,1fr)_120px] gap-3">
        <SelectField
          label="Client"
          error={sending.errorOf("clientId")}
          value={clientId}
          onChange={(event) => setClientId(event.target.value)}
        >
          {clients.map((client) => (
            <option key={client.id} value={client.id}>
              {client.name}
            </option>
          ))}
        </SelectField>
        <TextField
          label="Quota"
          error={quotaError ?? sending.errorOf("quotaBytes")}
          placeholder={current?.quotaBytes ? formatBytes(current.quotaBytes) : "500 GiB"}
          value={quota}
          onChange={(event) => setQuota(event.target.value)}
        />
      </div>
      <Refusal problem={sending.problem} />
      <div>
        <button type="submit" className="btn btn-plain" disabled={sending.busy}>
          {current?.quotaBytes ? "Change the quota" : "Grant it"}
        </button>
      </div>
    </form>
  );
}
