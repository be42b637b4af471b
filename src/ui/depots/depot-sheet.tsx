"use client";

import { useRouter } from "next/navigation";
import { useState } from "react";
import { formatBytes, parseBytes } from "@/core/units/bytes";
import { showRefusal } from "../parts/actions";
import { callApi } from "../parts/api";
import { Refusal, SelectField, TextField, useSending } from "../parts/form";
import { Radio } from "../parts/radio";
import { say } from "../parts/say";
import { type StepsShown, TestSteps } from "../parts/test-steps";

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

const KINDS = [
  ["folder", "A local folder"],
  ["share", "A network share"],
  ["s3", "A bucket"],
] as const;
type Kind = (typeof KINDS)[number][0];

const EMPTY = {
  name: "",
  path: "",
  region: "",
  capacity: "",
  endpoint: "",
  bucketRegion: "",
  bucket: "",
  prefix: "",
  storageClass: "",
  accessKeyId: "",
  secretAccessKey: "",
  direct: "",
};

/** Adds a depot: tested step by step before it is one. */
export function DepotSheet() {
  const router = useRouter();
  const sending = useSending();
  const [kind, setKind] = useState<Kind>("folder");
  const [values, setValues] = useState(EMPTY);
  const [pathStyle, setPathStyle] = useState(true);
  const [test, setTest] = useState<DepotTest | null>(null);
  const [capacityError, setCapacityError] = useState<string | undefined>();
  const field = (key: keyof typeof EMPTY) => ({
    error: sending.errorOf(key),
    value: values[key],
    onChange: (event: { target: { value: string } }) => setValues({ ...values, [key]: event.target.value }),
  });
  const place = () => {
    if (kind !== "s3") return { kind, path: values.path };
    const { endpoint, bucketRegion, bucket, prefix, storageClass, accessKeyId, secretAccessKey } = values;
    return {
      kind,
      endpoint,
      bucketRegion,
      bucket,
      prefix,
      pathStyle,
      storageClass: storageClass.trim() || null,
      accessKeyId,
      secretAccessKey,
    };
  };
  const tryIt = () =>
    sending.send(async () => {
      setTest(await callApi<DepotTest>("POST", "/depots/test", place()));
    });
  return (
    <form
      className="grid gap-4"
      onSubmit={(event) => {
        event.preventDefault();
        const capacityBytes = values.capacity.trim() ? parseBytes(values.capacity) : null;
        if (values.capacity.trim() && !capacityBytes) {
          setCapacityError("Enter a size such as 500 GiB, or leave it empty.");
          return;
        }
        setCapacityError(undefined);
        void sending.send(async () => {
          const { depot } = await callApi<{ depot: { id: string; name: string } }>("POST", "/depots", {
            name: values.name,
            region: values.region,
            capacityBytes,
            direct: values.direct.trim() || null,
            ...place(),
          });
          say.success(`${depot.name} was added.`);
          router.push(`/all/depots?sel=${depot.id}`);
          router.refresh();
        });
      }}
    >
      <h2 className="text-[17px]">Add a depot</h2>
      <fieldset className="flex flex-wrap gap-x-5 gap-y-2">
        <legend className="sr-only">Kind of depot</legend>
        {KINDS.map(([value, label]) => (
          <label key={value} className="flex items-center gap-2">
            <Radio
              name="depot-kind"
              size="sm"
              checked={kind === value}
              choose={() => {
                setKind(value);
                setTest(null);
                setValues({ ...values, direct: "" });
              }}
            />
            {label}
          </label>
        ))}
      </fieldset>
      <TextField label="Name" {...field("name")} />
      {kind !== "s3" && (
        <TextField
          label={kind === "folder" ? "Folder on the console's machine" : "Where the share is mounted"}
          help={
            kind === "folder"
              ? "Use an empty folder on a separate disk. The data is encrypted: without a client's key nobody can read it or see file names."
              : "The share must be mounted at this path. If it is not, nothing is written and runs report it."
          }
          mono
          placeholder={kind === "folder" ? "/srv/depots/harbour" : "/mnt/harbour"}
          {...field("path")}
        />
      )}
      {kind === "s3" && (
        <>
          <TextField
            label="Server address"
            help="Any S3-compatible server. Objects are written with a condition that prevents overwriting."
            mono
            placeholder="https://s3.example"
            {...field("endpoint")}
          />
          <div className="grid grid-cols-2 gap-3">
            <TextField label="Bucket" mono {...field("bucket")} />
            <TextField label="Bucket region" mono {...field("bucketRegion")} />
            <TextField label="Prefix (optional)" mono placeholder="deep-keep/" {...field("prefix")} />
            <TextField label="Storage class (optional)" mono {...field("storageClass")} />
          </div>
          <label className="flex items-center gap-2">
            <input
              type="checkbox"
              className="checkbox checkbox-xs"
              checked={pathStyle}
              onChange={(event) => setPathStyle(event.target.checked)}
            />
            Path-style addresses (bucket name in the path)
          </label>
          <TextField label="Access key" mono autoComplete="off" {...field("accessKeyId")} />
          <TextField
            label="Secret access key"
            type="password"
            autoComplete="off"
            help="Stored encrypted; never shown again."
            {...field("secretAccessKey")}
          />
        </>
      )}
      {kind === "s3" ? (
        <label className="flex items-center gap-2">
          <input
            type="checkbox"
            className="checkbox checkbox-xs"
            checked={values.direct === "presigned"}
            onChange={(event) => setValues({ ...values, direct: event.target.checked ? "presigned" : "" })}
          />
          Machines write to the bucket directly where they can reach it
        </label>
      ) : (
        <TextField
          label="Path on the machines, if they mount it (optional)"
          help="A machine that finds this depot under the path writes to it directly instead of through the console. Whoever controls such a machine can then also change the depot’s data."
          mono
          placeholder="/mnt/harbour"
          {...field("direct")}
        />
      )}
      <TextField label="Region" {...field("region")} />
      <TextField
        label={"Size limit (optional)"}
        placeholder="500 GiB"
        {...field("capacity")}
        error={capacityError ?? sending.errorOf("capacityBytes")}
      />
      <Refusal problem={sending.problem} />
      {test && <DepotTestShown test={test} />}
      <div className="flex gap-2">
        <button type="submit" className="btn btn-primary" disabled={sending.busy}>
          Add depot
        </button>
        <button type="button" className="btn btn-plain" disabled={sending.busy} onClick={tryIt}>
          Test
        </button>
      </div>
    </form>
  );
}

/** How machines reach a depot, with the action that changes it. */
export function DirectWay({ depotId, kind, direct }: { depotId: string; kind: Kind; direct: string | null }) {
  const router = useRouter();
  const sending = useSending();
  const [path, setPath] = useState(direct ?? "");
  const change = (way: string | null) =>
    sending.send(async () => {
      await callApi("PATCH", `/depots/${depotId}`, { direct: way });
      say.success(way ? "Direct access turned on." : "Direct access turned off.");
      router.refresh();
    });
  if (kind === "s3")
    return (
      <p>
        {direct ? "Machines write to it directly where they can. " : "Machines write through the console. "}
        <button
          type="button"
          className="text-primary underline"
          disabled={sending.busy}
          onClick={() => change(direct ? null : "presigned")}
        >
          {direct ? "Turn off direct access" : "Turn on direct access"}
        </button>
      </p>
    );
  return (
    <form
      className="grid grid-cols-[minmax(0,1fr)_auto] items-end gap-3"
      onSubmit={(event) => {
        event.preventDefault();
        void change(path.trim() || null);
      }}
    >
      <TextField
        label="Path on the machines, if they mount it (optional)"
        error={sending.errorOf("direct")}
        mono
        placeholder="/mnt/harbour"
        value={path}
        onChange={(event) => setPath(event.target.value)}
      />
      <button type="submit" className="btn btn-plain" disabled={sending.busy || path === (direct ?? "")}>
        Set
      </button>
    </form>
  );
}

/** Another access key for a bucket: tested before it replaces the one in use. */
export function BucketKeys({ depotId, accessKeyId }: { depotId: string; accessKeyId: string }) {
  const router = useRouter();
  const sending = useSending();
  const [open, setOpen] = useState(false);
  const [values, setValues] = useState({ accessKeyId: "", secretAccessKey: "" });
  const field = (key: keyof typeof values) => ({
    error: sending.errorOf(key),
    value: values[key],
    onChange: (event: { target: { value: string } }) => setValues({ ...values, [key]: event.target.value }),
  });
  if (!open)
    return (
      <p>
        Access key <span className="font-mono text-[12.5px]">{accessKeyId}</span>.{" "}
        <button type="button" className="text-primary underline" onClick={() => setOpen(true)}>
          Replace the key…
        </button>
      </p>
    );
  return (
    <form
      className="grid gap-3"
      onSubmit={(event) => {
        event.preventDefault();
        void sending.send(async () => {
          await callApi("PUT", `/depots/${depotId}/keys`, values);
          say.success("The new key works and replaces the old one.");
          setValues({ accessKeyId: "", secretAccessKey: "" });
          setOpen(false);
          router.refresh();
        });
      }}
    >
      <TextField label="Access key" mono autoComplete="off" {...field("accessKeyId")} />
      <TextField
        label="Secret access key"
        type="password"
        autoComplete="off"
        help="Tested before it replaces the key in use. It is stored encrypted and never shown again."
        {...field("secretAccessKey")}
      />
      <Refusal problem={sending.problem} />
      <div className="flex gap-2">
        <button type="submit" className="btn btn-primary" disabled={sending.busy}>
          Test and replace
        </button>
        <button type="button" className="btn btn-plain" onClick={() => setOpen(false)}>
          Cancel
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
              showRefusal(error);
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
  clients: readonly {
    readonly id: string;
    readonly name: string;
    readonly quotaBytes: number | null;
    readonly lockDays: number;
  }[];
}) {
  const router = useRouter();
  const sending = useSending();
  const [clientId, setClientId] = useState(clients[0]?.id ?? "");
  const current = clients.find((client) => client.id === clientId);
  const [quota, setQuota] = useState("");
  const [lock, setLock] = useState("");
  const [why, setWhy] = useState("");
  const shorter = lock.trim() !== "" && Number(lock) < (current?.lockDays ?? 0);
  const [quotaError, setQuotaError] = useState<string | undefined>();
  if (clients.length === 0) return <p className="text-soft">Add a client first. Then grant it a depot.</p>;
  return (
    <form
      className="grid gap-3"
      onSubmit={(event) => {
        event.preventDefault();
        const quotaBytes = quota.trim() ? parseBytes(quota) : current?.quotaBytes;
        if (!quotaBytes) {
          setQuotaError("Enter a size such as 500 GiB.");
          return;
        }
        setQuotaError(undefined);
        void sending.send(async () => {
          const { regionDiffers, consentId } = await callApi<{
            regionDiffers: boolean;
            consentId: string | null;
          }>("PUT", `/depots/${depotId}/grants/${clientId}`, {
            quotaBytes,
            ...(lock.trim() ? { lockDays: Number(lock) } : {}),
            ...(shorter ? { reason: why } : {}),
          });
          say.success(
            consentId
              ? "Approval requested for the shorter lock. The quota was changed."
              : `Granted with ${formatBytes(quotaBytes)}.`,
            regionDiffers
              ? { description: "This depot is in another region than the client's data may be stored in." }
              : {},
          );
          setQuota("");
          setLock("");
          setWhy("");
          router.refresh();
        });
      }}
    >
      <div className="grid grid-cols-[minmax(0,1fr)_84px_86px] gap-3">
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
        <TextField
          label="Lock (days)"
          error={sending.errorOf("lockDays")}
          help="During this time nobody, including the provider, can delete or change stored data. A shorter lock for future points needs a second person; stored data keeps its lock."
          inputMode="numeric"
          placeholder={String(current?.lockDays ?? 0)}
          value={lock}
          onChange={(event) => setLock(event.target.value)}
        />
      </div>
      {shorter && (
        <TextField
          label="Reason for the shorter lock"
          error={sending.errorOf("reason")}
          value={why}
          onChange={(event) => setWhy(event.target.value)}
        />
      )}
      <Refusal problem={sending.problem} />
      <div>
        <button type="submit" className="btn btn-plain" disabled={sending.busy}>
          {current?.quotaBytes ? "Save" : "Grant"}
        </button>
      </div>
    </form>
  );
}
